"""What a person chose in Watch."""

from __future__ import annotations

from dataclasses import dataclass

Range = tuple[int, int]
"""The first and the last identifier of a group, both included."""


@dataclass(frozen=True)
class WatchChoices:
    """How the identifiers are shown.

    Attributes:
        sort: The column they are sorted by; ``turned`` turns the order round.
        group: How they are grouped; empty if not. ``ranges`` are groups that were drawn.
        drawing: The row at which a group was begun.
        form: How payloads are written.
        top: The first row shown, as far as the row in hand lets it.
        first_byte: The first byte of the ribbon.
        hides: Columns that are hidden; None are those that are remembered.
    """

    sort: str = "id"
    turned: bool = False
    group: str = ""
    ranges: tuple[Range, ...] = ()
    drawing: int | None = None
    form: str = "hex"
    top: int = 0
    first_byte: int = 0
    hides: frozenset[str] | None = None
