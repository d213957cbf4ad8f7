"""What every view shares: the lens, the ask, the pick; and the way back through their changes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from keel.model.span import Span

WATCH, FRAMES, HEALTH, HUNT, BENCH = "watch", "frames", "health", "hunt", "bench"
VIEWS: dict[str, tuple[str, str]] = {
    WATCH: ("1", "Watch"),
    FRAMES: ("2", "Frames"),
    HEALTH: ("3", "Health"),
    HUNT: ("4", "Hunt"),
    BENCH: ("9", "Bench"),
}
MOST_STEPS_BACK = 200


@dataclass(frozen=True)
class State:
    """What is looked at. ``lens`` None is all of it; ``frame`` is the number of the frame in hand."""

    view: str = WATCH
    lens: Span | None = None
    ask: str = ""
    pick: int | None = None
    frame: int | None = None
    held: bool = False


@dataclass(frozen=True)
class Step:
    """A change that can be taken back."""

    words: str
    undo: Callable[[], None]


@dataclass
class History:
    """The changes made, newest last."""

    steps: list[Step] = field(default_factory=list)

    def push(self, words: str, undo: Callable[[], None]) -> None:
        """Remember how to take a change back."""
        self.steps.append(Step(words, undo))
        del self.steps[:-MOST_STEPS_BACK]

    def back(self) -> str | None:
        """Take the newest change back; returns what it was, or None if there was none."""
        if not self.steps:
            return None
        step = self.steps.pop()
        step.undo()
        return step.words
