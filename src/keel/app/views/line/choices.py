"""What a person chose in Line."""

from __future__ import annotations

from dataclasses import dataclass

STEPS = ("frame", "edge", "bit", "field", "fault", "shortest pulse")
"""What can be stepped to."""


@dataclass(frozen=True)
class Task:
    """Which line is measured, and beside which other one; by the numbers of their buses."""

    bus: int
    beside: int | None = None


@dataclass(frozen=True)
class LineChoices:
    """What is looked at of the waveforms.

    Attributes:
        in_hand: The number of the channel's waveform that is in hand; None is the first.
        cursors: Times in ns; ``active`` is the place of the one that moves.
        step: What n and N step to.
        task: Of which line the margins are measured; None of none.
        follows: The number of a channel, and what was found that it follows, in sentences.
    """

    in_hand: int | None = None
    cursors: tuple[int, ...] = ()
    active: int = 0
    step: str = STEPS[0]
    task: Task | None = None
    follows: tuple[int, tuple[str, ...]] | None = None
