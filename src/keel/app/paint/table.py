"""What lists have in common: a cursor, a window that follows it, columns that drop in a stated order."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from keel.app.paint.canvas import Line
from keel.app.paint.palette import Palette


@dataclass(frozen=True)
class Column:
    """A column of a list. Those with the highest ``drop`` go first when room is short; 0 stays."""

    name: str
    title: str
    width: int
    right: bool = False
    drop: int = 0


def fit(columns: tuple[Column, ...], width: int, gap: int = 1) -> list[tuple[Column, int]]:
    """The columns that fit, with where each begins."""
    kept = list(columns)
    while sum(c.width + gap for c in kept) > width and any(c.drop for c in kept):
        kept.remove(max(kept, key=lambda c: c.drop))
    placed, at = [], 0
    for column in kept:
        placed.append((column, at))
        at += column.width + gap
    return placed


def window(cursor: int, top: int, height: int, count: int) -> int:
    """The first row to show so that the cursor is in sight and no room is wasted."""
    if cursor < top:
        top = cursor
    elif cursor >= top + height:
        top = cursor - height + 1
    return max(min(top, count - height), 0)


def grow(placed: list[tuple[Column, int]], name: str, extra: int) -> list[tuple[Column, int]]:
    """One column wider, those after it further right."""
    grown, shift = [], 0
    for column, at in placed:
        more = extra if column.name == name else 0
        grown.append((replace(column, width=column.width + more), at + shift))
        shift += more
    return grown


def width_of(placed: list[tuple[Column, int]], name: str) -> int:
    """How wide a column is, 0 if it is not shown."""
    return next((c.width for c, _ in placed if c.name == name), 0)


def header(
    palette: Palette,
    width: int,
    placed: Sequence[tuple[Column, int]],
    left: int,
    titles: Mapping[str, str] = {},
    lit: str = "",
) -> Line:
    """The titles of a list's columns.

    Args:
        palette: The colours.
        width: Cells there are.
        placed: The columns and where they begin, counted from ``left``.
        left: The first column's first cell.
        titles: Titles that differ from the columns' own, by name.
        lit: The column whose title stands out.
    """
    line = Line(width, palette.style("text"))
    for column, at in placed:
        title = titles.get(column.name, column.title)
        style = palette.style("brass" if column.name == lit else "dim")
        line.put(left + at, title, style, column.width, column.right)
    return line


Cells = Mapping[str, tuple[str, str]]
"""What stands in a row, by column: the text and the role of its colour."""


def write_cells(
    palette: Palette, line: Line, placed: Sequence[tuple[Column, int]], left: int, cells: Cells, on: str, bold: str = ""
) -> None:
    """Write a row; columns without a cell stay as they are. The one called ``bold`` is written so."""
    for column, at in placed:
        if column.name in cells:
            text, role = cells[column.name]
            line.put(left + at, text, palette.style(role, on, column.name == bold), column.width, column.right)


def row_line(palette: Palette, width: int, in_hand: bool) -> tuple[Line, str]:
    """An empty row and its ground; the row in hand stands out."""
    on = "raised" if in_hand else "ink"
    line = Line(width, palette.style("text", on))
    if in_hand:
        line.put(0, "▌", palette.style("brass", on))
    return line, on


def sized(column: Column, bus_cells: int, ident_cells: int) -> Column:
    """A column as wide as what stands in it."""
    if column.name == "bus":
        return replace(column, width=min(max(column.width, bus_cells + 2), 14))
    return replace(column, width=max(column.width, ident_cells)) if column.name == "id" else column
