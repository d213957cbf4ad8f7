"""The header of a frame as bits, with what each stands for under it."""

from __future__ import annotations

from collections.abc import Sequence

from keel.app.paint.canvas import Line
from keel.app.paint.palette import Palette
from keel.media.medium import HeaderBits


def header_bits(palette: Palette, width: int, fields: Sequence[HeaderBits]) -> list[Line]:
    """The header's bits, names and meanings, broken into as many rows as it takes."""
    rows: list[tuple[Line, Line]] = []
    at = width + 1
    for field in fields:
        label = f"{field.name} {field.meaning}".strip()
        room = max(len(field.bits), len(label)) + 2
        if at + room - 2 > width:
            rows.append((Line(width, palette.style("text")), Line(width, palette.style("text"))))
            at = 0
        upper, lower = rows[-1]
        upper.put(at, field.bits, palette.style("text" if field.is_ident else "sea"))
        lower.put(at, label, palette.style("dim"))
        at += room
    return [line for pair in rows for line in pair]
