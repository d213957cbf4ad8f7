"""A text file as it lies, before it is imported: its first lines in columns, what each holds above them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from keel.app.paint.canvas import Line, Sheet
from keel.model.safe_text import plain

LINES = 9
CELL = 14


@dataclass(frozen=True)
class Column:
    """What stands above a column, and whether it is read at all."""

    holds: str
    is_read: bool = True


def first_shown(in_hand: int, width: int) -> int:
    """The first column that is shown, so that the one in hand is."""
    return max(in_hand - (width - 4) // CELL + 1, 0)


def paint_title(sheet: Sheet, lines: list[Line], what: str, name: str) -> None:
    """The line at the top: what is done with which file."""
    style = sheet.palette.style
    lines[0] = sheet.line(lines[0].width, "panel")
    at = lines[0].put(0, " KEEL ", style("ink", "sea", True)) + 2
    at = lines[0].put(at, what, style("dim", "panel"))
    lines[0].put(at, plain(name, 80), style("strong", "panel", True))


def paint_columns(
    sheet: Sheet,
    lines: list[Line],
    columns: Sequence[Column],
    rows: Sequence[Sequence[str]],
    above: int,
    in_hand: int,
) -> None:
    """The first lines of a file, from the fourth line of the sheet on.

    Args:
        sheet, lines: Where.
        columns: What each column holds.
        rows: The cells of each line.
        above: So many lines are above the first row that is read.
        in_hand: The column in hand.
    """
    style, width = sheet.palette.style, lines[0].width
    first = first_shown(in_hand, width)
    for place in range(first, min(first + (width - 4) // CELL, len(columns))):
        at, column = 2 + (place - first) * CELL, columns[place]
        on = "raised" if place == in_hand else "ink"
        for line in lines[3 : 5 + LINES]:
            line.ground(style("text", on), at, at + CELL - 1)
        lines[3].put(at, column.holds, style("brass" if column.is_read else "faint", on, column.is_read), CELL - 1)
        for n, row in enumerate(rows[:LINES]):
            cell = plain(row[place], 60) if place < len(row) else ""
            # The end of a line above may need more room than its column has.
            room = max(width - at - 2, 0) if n < above and place == len(row) - 1 else CELL - 1
            lines[4 + n].put(at, cell, style("faint" if n < above else "text", on), room)


def paint_keys(sheet: Sheet, lines: list[Line], keys: Sequence[tuple[str, str]]) -> None:
    """The line at the bottom: which keys do what."""
    style = sheet.palette.style
    lines[-1] = sheet.line(lines[-1].width, "panel")
    at = 1
    for key, word in keys:
        at = lines[-1].put(at, key, style("brass", "panel", True)) + 1
        at = lines[-1].put(at, word, style("dim", "panel")) + 3
