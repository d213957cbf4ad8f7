"""What a person chose in Line."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from keel.app.views.line.trial import Trial

SHORTEST = "shortest pulse"
STEPS = ("frame", "edge", "bit", "field", "fault", SHORTEST)
"""What can be stepped to."""
FORMS = ("hex", "decimal", "text")
"""How bytes are written."""


@dataclass(frozen=True)
class Task:
    """Which line is measured, and beside which other one; by the numbers of their buses."""

    bus: int
    beside: int | None = None


@dataclass(frozen=True)
class Sought:
    """What is looked for, and on which channel."""

    channel: int
    text: str


@dataclass(frozen=True)
class LineChoices:
    """What is looked at of the waveforms.

    Attributes:
        in_hand: The number of the channel's waveform that is in hand; None is the first that was read.
        cursors: Times in ns; ``active`` is the place of the one that moves.
        step: What n and N step to.
        task: Of which line the margins are measured; None of none.
        follows: The number of a channel, and what was found that it follows, in sentences.
        trial: How a line is tried to be read; None if nobody tries.
        pane: What stands below the waveforms in place of the facts.
        sought: What was looked for last.
        row: Which find is in hand.
        form: How bytes are written.
        hidden: The numbers of channels that are not drawn.
        order: The numbers of channels that a person put into an order; others follow.
    """

    in_hand: int | None = None
    cursors: tuple[int, ...] = ()
    active: int = 0
    step: str = STEPS[0]
    task: Task | None = None
    follows: tuple[int, tuple[str, ...]] | None = None
    trial: Trial | None = None
    pane: Literal["", "messages", "found"] = ""
    sought: Sought | None = None
    row: int = 0
    form: str = FORMS[0]
    hidden: frozenset[int] = frozenset()
    order: tuple[int, ...] = ()
