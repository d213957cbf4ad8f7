"""What a person chose in Values."""

from __future__ import annotations

from dataclasses import dataclass

Name = tuple[int, str]
"""A signal: its identifier's key and its name."""


@dataclass(frozen=True)
class ValuesChoices:
    """Which signals are shown and drawn.

    Attributes:
        in_hand: The signal in hand; None is the first.
        chosen: The signals that are drawn; none is the one in hand.
        cursors: Times in ns; ``active`` is the place of the one that moves.
        stacked: Whether each plot has a strip of its own.
        board: The board of one's own that is shown; None is all, by message.
        counters: Whether counters, checksums and selectors are shown too.
        top: The first row shown, as far as the row in hand lets it.
    """

    in_hand: Name | None = None
    chosen: tuple[Name, ...] = ()
    cursors: tuple[int, ...] = ()
    active: int = 0
    stacked: bool = True
    board: str | None = None
    counters: bool = False
    top: int = 0
