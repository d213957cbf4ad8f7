"""What a person looks at, as one frozen value. Every change is a new state; views keep no copy of any of it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TypeVar

from keel.model.span import Span

C = TypeVar("C")


@dataclass(frozen=True)
class State:
    """What is looked at, and how.

    Attributes:
        folder: The recording; None while none is chosen.
        view: The name of the view that is open.
        lens: None is all of it.
        pick: The key of the identifier in hand; None leaves it to the view.
        frame: The number of the frame in hand; None is the newest, or the first of what is over.
        held: Whether the picture stands still.
        baseline: When counting began anew, in ns; None if it did not.
        learning: When learning what moves by itself began.
        hush: The span in which that was learnt; what moved in it is hushed.
        zero: The time that the column "from zero" counts from, in ns.
        attempt: The try that marks are given to from now on; None is that of the last mark.
        own: Each view's own choices, by their kind; those of a kind that is missing are its defaults.
    """

    folder: Path | None = None
    view: str = "watch"
    lens: Span | None = None
    ask: str = ""
    pick: int | None = None
    frame: int | None = None
    held: bool = False
    baseline: int | None = None
    learning: int | None = None
    hush: Span | None = None
    zero: int | None = None
    attempt: str | None = None
    own: Mapping[type[object], object] = field(default_factory=dict)

    def of(self, kind: type[C]) -> C:
        """A view's own choices."""
        found = self.own.get(kind)
        return found if isinstance(found, kind) else kind()

    def having(self, choices: object) -> State:
        """The same with a view's choices exchanged."""
        return replace(self, own={**self.own, type(choices): choices})
