"""What every view shares: the lens, the ask, the pick; and the way back through their changes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from keel.model.span import Span

WATCH, FRAMES, HEALTH, HUNT, BENCH = "watch", "frames", "health", "hunt", "bench"
VALUES, COMPARE = "values", "compare"
VIEWS: dict[str, tuple[str, str]] = {
    WATCH: ("1", "Watch"),
    FRAMES: ("2", "Frames"),
    HEALTH: ("3", "Health"),
    HUNT: ("4", "Hunt"),
    VALUES: ("5", "Values"),
    COMPARE: ("6", "Compare"),
    BENCH: ("9", "Bench"),
}
MOST_STEPS_BACK = 200


@dataclass(frozen=True)
class State:
    """What is looked at.

    Attributes:
        lens: None is all of it.
        frame: The number of the frame in hand.
        baseline: When counting began anew, in ns; None if it did not.
        learning: When learning what moves by itself began.
        hush: The span in which that was learnt; what moved in it is hushed.
        zero: The time that the column "from zero" counts from, in ns.
    """

    view: str = WATCH
    lens: Span | None = None
    ask: str = ""
    pick: int | None = None
    frame: int | None = None
    held: bool = False
    baseline: int | None = None
    learning: int | None = None
    hush: Span | None = None
    zero: int | None = None


@dataclass(frozen=True)
class Step:
    """A change that can be taken back, and made again."""

    words: str
    undo: Callable[[], None]
    redo: Callable[[], None]


@dataclass
class History:
    """The changes made, newest last, and those that were taken back, newest last."""

    steps: list[Step] = field(default_factory=list)
    undone: list[Step] = field(default_factory=list)

    def push(self, words: str, undo: Callable[[], None], redo: Callable[[], None]) -> None:
        """Remember how to take a change back, and how to make it again."""
        self.steps.append(Step(words, undo, redo))
        del self.steps[:-MOST_STEPS_BACK]
        self.undone.clear()

    def back(self) -> str | None:
        """Take the newest change back; returns what it was, or None if there was none."""
        if not self.steps:
            return None
        step = self.steps.pop()
        self.undone.append(step)
        step.undo()
        return step.words

    def forward(self) -> str | None:
        """Make the change again that was taken back last; returns what it was, or None if there was none."""
        if not self.undone:
            return None
        step = self.undone.pop()
        self.steps.append(step)
        step.redo()
        return step.words
