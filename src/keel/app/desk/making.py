"""What is wished of the desk, and what it has at hand while it makes a view's part of a picture."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Protocol, TypeVar

from keel.app.desk.errands import Errands
from keel.model.span import Span

if TYPE_CHECKING:
    from keel.ask.matches import Matches
    from keel.ask.nodes import Node, Scene
    from keel.measure.census import Census
    from keel.signals.dictionary import Message
    from keel.store.recording import Snapshot

H = TypeVar("H")


class Want(Protocol):
    """What a view wants to see besides what all views show. Compared by value: an equal want is the same want."""

    def make(self, making: Making) -> object:
        """The part of the picture that is wanted; runs on the desk's thread."""


@dataclass(frozen=True)
class Wish:
    """What is to be shown.

    Attributes:
        counted: Whether who sends what is shown has to be counted; a list of frames can do without.
        want: The open view's part.
    """

    folder: Path
    lens: Span | None = None
    ask: str = ""
    held: bool = False
    tape_cells: int = 1
    counted: bool = True
    want: Want | None = None


class Helpers:
    """What is kept from one picture to the next, one of each kind."""

    def __init__(self) -> None:
        self._kept: dict[type[object], object] = {}

    def of(self, kind: type[H]) -> H:
        """The one of a kind; made when it is wanted first."""
        found = self._kept.get(kind)
        if not isinstance(found, kind):
            found = self._kept[kind] = kind()
        return found


@dataclass
class Making:
    """A picture in the making.

    Attributes:
        folder: The recording.
        patience: Whether there is time to look at more.
        courtesy: Called between steps; lets the interface answer a key first.
        in_span: The matches of a span, as far as patience goes.
        helpers: Kept from one picture to the next.
        errands: Long jobs.
        unfinished: Set where there is more to look at than patience allowed.
    """

    folder: Path
    wish: Wish
    snapshot: Snapshot
    node: Node
    matches: Matches
    scene: Scene
    messages: dict[int, Message]
    whole: Span
    lens: Span
    census: Census
    patience: Callable[[], bool]
    courtesy: Callable[[], None]
    in_span: Callable[[Span], Matches]
    helpers: Helpers
    errands: Errands
    ask_error: str = ""
    unfinished: bool = field(default=False)

    def bus_name(self, key: int) -> str:
        """The name of a key's bus."""
        return self.snapshot.manifest.buses[key >> 56].name
