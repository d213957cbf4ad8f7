"""What lists have in common: a cursor, a window that follows it, columns that drop in a stated order."""

from __future__ import annotations

from dataclasses import dataclass


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
        grown.append((Column(column.name, column.title, column.width + more, column.right), at + shift))
        shift += more
    return grown


def width_of(placed: list[tuple[Column, int]], name: str) -> int:
    """How wide a column is, 0 if it is not shown."""
    return next((c.width for c, _ in placed if c.name == name), 0)
