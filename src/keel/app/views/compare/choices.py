"""What a person chose in Compare."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from keel.compare.difference import Difference
from keel.compare.sides import AlignBy
from keel.model.span import Span

Pairs = tuple[tuple[str, str], ...]


@dataclass(frozen=True)
class Task:
    """What is compared.

    Attributes:
        other: The other recording; None compares with another span of this one.
        mine, theirs: The span that counts of each; None is all of it.
        align: How their times are laid over each other.
        buses: Which bus of this one is which of the other, where a person said it.
    """

    other: Path | None
    mine: Span | None = None
    theirs: Span | None = None
    align: AlignBy = "start"
    buses: Pairs = ()


@dataclass(frozen=True)
class CompareChoices:
    """What is compared, and which difference is in hand.

    Attributes:
        task: None before anything is compared.
        home: The recording that is "this" in the task.
        first_span: The span that was taken as this side, while the other one is chosen.
        in_hand: None is the first.
        top: The first row shown, as far as the row in hand lets it.
        again: How often it was compared again.
    """

    task: Task | None = None
    home: Path | None = None
    first_span: Span | None = None
    in_hand: Difference | None = None
    top: int = 0
    again: int = 0
