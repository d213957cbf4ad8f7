"""What an action may do: steer what is looked at, edit the recording, ask the person, say something."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Protocol, TypeVar

from rich.style import Style
from textual.screen import Screen

from keel.app.paint.canvas import Line

if TYPE_CHECKING:
    from keel.app.desk.deeds import Plan
    from keel.app.desk.picture import Picture
    from keel.app.paint.palette import Palette
    from keel.app.shared.history import Undoable
    from keel.app.shared.state import State
    from keel.model.span import Span

R = TypeVar("R")


@dataclass(frozen=True)
class Here:
    """What is on the screen: the state, the picture it is shown from, the colours, the room of the view in cells."""

    state: State
    picture: Picture
    palette: Palette
    width: int
    height: int

    @property
    def lens(self) -> Span:
        """What is looked at by now; the picture may still be of the lens before."""
        return self.state.lens or self.picture.whole

    def style(self, role: str = "text", on: str = "ink", bold: bool = False) -> Style:
        """The style for text of a role on a ground."""
        return self.palette.style(role, on, bold)

    def line(self, on: str = "ink") -> Line:
        """An empty line."""
        return Line(self.width, self.palette.style("text", on))


@dataclass(frozen=True)
class Choice:
    """Something to choose: its value, and how it is shown."""

    value: str
    words: str


@dataclass(frozen=True)
class Offer:
    """Something that can be saved.

    Attributes:
        words: What it is.
        path: The name proposed.
        save: Writes it to a path, on a worker's thread; gives back what the file could not say of it.
    """

    words: str
    path: str
    save: Callable[[Path], Sequence[str]]


class Windows(Protocol):
    """The windows in which a person is asked something. What they ask for is not called if the person leaves."""

    def text(self, title: str, hint: str, proposal: str, then: Callable[[str], None], empty: bool = False) -> None:
        """Have a line typed; ``empty``: it may be empty."""

    def choose(
        self,
        title: str,
        choices: Sequence[Choice] | Callable[[], Sequence[Choice]],
        then: Callable[[str], None],
        left: Callable[[], None] = lambda: None,
    ) -> None:
        """Have one chosen; choices that have to be looked up are looked up on another thread.

        ``left`` is called if the person leaves.
        """

    def open(
        self, screen: Screen[R | None], then: Callable[[R], None], left: Callable[[], None] = lambda: None
    ) -> None:
        """Open a window of another kind."""


class Helm(Protocol):
    """What an action has in hand."""

    @property
    def state(self) -> State:
        """What is looked at."""

    @property
    def windows(self) -> Windows:
        """What the person can be asked."""

    @property
    def here(self) -> Here:
        """What is on the screen.

        Raises:
            KeelError: nothing is yet.
        """

    def change(self, words: str, state: State, joins: bool = False) -> None:
        """Look at something else; can be undone. ``joins``: it goes on with a change of the same words before."""

    def quietly(self, state: State) -> None:
        """Look at something else without a step to undo: what nobody would call a change."""

    def edit(self, words: str, plan: Plan, said: Callable[[], str] = lambda: "", state: State | None = None) -> None:
        """Write something into the recording; can be undone.

        Args:
            words: What it is.
            plan: What is exchanged.
            said: Gives the sentence to tell once it is written.
            state: What is looked at from then on, if that changes too.
        """

    def done(self, words: str, edit: Undoable) -> None:
        """Something was written into the recording that knows how it is undone."""

    def submit(self, job: Callable[[], None]) -> None:
        """Do a job on the desk's thread; what goes wrong in it is told."""

    def behind(
        self,
        job: Callable[[Callable[[], bool]], R],
        then: Callable[[R], None],
        failed: Callable[[], None] = lambda: None,
    ) -> None:
        """Do a job on a thread of its own; what goes wrong is told.

        Args:
            job: Given a function that says whether the person gave it up.
            then: Takes what it gives, on this thread.
            failed: Called on this thread if it went wrong.
        """

    def tell(self, sentence: str, seconds: float = 4, error: bool = False) -> None:
        """Say something in passing."""

    def give_up(self) -> bool:
        """Give up what is searched or compared; returns whether anything was."""
