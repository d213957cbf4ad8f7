"""Edits of a recording that know how to take themselves back.

What people write into a recording lies in its manifest as things under keys: a mark under its number, a note under its
frame. An edit exchanges some of them, as the manifest is at that moment, and keeps what it exchanged. Undoing it
exchanges just these again: what another terminal wrote meanwhile stays, and where both changed the same thing the
undo leaves it and says so.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Generic, TypeVar

if TYPE_CHECKING:
    from keel.store.manifest import Manifest

K = TypeVar("K")
V = TypeVar("V")


@dataclass(frozen=True)
class Kept(Generic[K, V]):
    """A kind of thing that is kept in a manifest under keys.

    Attributes:
        word: What one of it is called.
        get: The thing of a key, or None.
        put: Exchanges the thing of a key; None takes it away.
    """

    word: str
    get: Callable[[Manifest, K], V | None]
    put: Callable[[Manifest, K, V | None], None]


@dataclass(frozen=True)
class Exchange(Generic[K, V]):
    """One thing is to be exchanged for another; None takes it away."""

    kept: Kept[K, V]
    key: K
    value: V | None

    def make(self, manifest: Manifest) -> Reversal[K, V]:
        """Do it; gives back what takes it back."""
        old = self.kept.get(manifest, self.key)
        self.kept.put(manifest, self.key, self.value)
        return Reversal(self.kept, self.key, old, self.kept.get(manifest, self.key))


@dataclass(frozen=True)
class Reversal(Generic[K, V]):
    """An exchange that was made: what was there before, and what it left."""

    kept: Kept[K, V]
    key: K
    before: V | None
    after: V | None

    def make(self, manifest: Manifest) -> Reversal[K, V] | None:
        """Exchange it back; None if something else stands there by now."""
        if self.kept.get(manifest, self.key) != self.after:
            return None
        self.kept.put(manifest, self.key, self.before)
        return Reversal(self.kept, self.key, self.after, self.before)


Plan = Callable[["Manifest"], "Iterable[Exchange]"]  # type: ignore[type-arg]
"""What an edit exchanges, told from the manifest as it is."""
Submit = Callable[[Callable[[], None]], None]
"""Has a job done on the desk's thread, in the order of asking."""
Tell = Callable[[str, bool], None]
"""Says something to the person; the second is whether it is an error."""


class Deed:
    """An edit of one recording. Its methods run on the desk's thread, one after another."""

    def __init__(self, folder: Path, words: str, plan: Plan, tell: Tell) -> None:
        self._folder, self.words, self._plan, self._tell = folder, words, plan, tell
        self._reversals: list[Reversal] = []  # type: ignore[type-arg]
        self.failed = False
        self._is_made = False

    def do(self) -> None:
        """Make it for the first time.

        Raises:
            KeelError: it could not be made; then it counts as never made.
        """
        from keel.store.manifest import edit_manifest

        try:
            with edit_manifest(self._folder) as manifest:
                self._reversals = [exchange.make(manifest) for exchange in self._plan(manifest)]
        except BaseException:
            self.failed = True
            raise
        self._is_made = True

    def undo(self) -> None:
        """Take it back; nothing is done if that is so already, as after an undo that could not be written.

        Raises:
            KeelError: the recording cannot be changed; then nothing has been.
        """
        if self._is_made:
            self._reverse()

    def redo(self) -> None:
        """Make it again; nothing is done if it stands.

        Raises:
            KeelError: the recording cannot be changed; then nothing has been.
        """
        if not self._is_made:
            self._reverse()

    def _reverse(self) -> None:
        """Exchange back what was exchanged.

        Raises:
            KeelError: the recording cannot be changed; then nothing has been.
        """
        from keel.store.manifest import edit_manifest

        left = set()
        with edit_manifest(self._folder) as manifest:
            made = []
            for reversal in reversed(self._reversals):
                back = reversal.make(manifest)
                if back is None:
                    left.add(reversal.kept.word)
                else:
                    made.append(back)
        self._reversals, self._is_made = made, not self._is_made
        if left:
            self._tell(f"{self.words}: {', '.join(sorted(left))} changed meanwhile, and was left as it is", True)


@dataclass(frozen=True)
class Undo:
    """How an edit is taken back, and made again."""

    deed: Deed
    submit: Submit

    @property
    def failed(self) -> bool:
        """Whether it never came about."""
        return self.deed.failed

    def undo(self) -> None:
        """Take it back, on the desk's thread."""
        self.submit(self.deed.undo)

    def redo(self) -> None:
        """Make it again, on the desk's thread."""
        self.submit(self.deed.redo)


def make(submit: Submit, folder: Path, words: str, plan: Plan, said: Callable[[], str], tell: Tell) -> Undo:
    """Have an edit made; gives back how it is undone.

    Args:
        submit: Runs a job on the desk's thread; what goes wrong in it is told there.
        folder: The recording.
        words: What the edit is.
        plan: What is exchanged.
        said: Gives the sentence that is told once it is made, if any.
        tell: Tells it.
    """
    deed = Deed(folder, words, plan, tell)

    def first() -> None:
        deed.do()
        if sentence := said():
            tell(sentence, False)

    submit(first)
    return Undo(deed, submit)


def make_quietly(submit: Submit, folder: Path, plan: Plan) -> None:
    """Have something written that belongs to something else and is not undone on its own."""
    submit(Deed(folder, "", plan, lambda *_: None).do)
