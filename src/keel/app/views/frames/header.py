"""The header of a frame as bits, with what each stands for under it."""

from __future__ import annotations

from collections.abc import Sequence

from keel.app.paint.canvas import Line
from keel.app.paint.palette import Palette
from keel.media.header import first_row
from keel.media.medium import HeaderBits, Medium
from keel.model.frames import FrameBatch


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


def header_pairs(medium: Medium, frame: FrameBatch) -> list[tuple[str, str]]:
    """What a frame's header says besides its bits, by the words that an ask takes."""
    if frame.header is None:
        return []
    row = first_row(medium.fields, frame.header)
    return [
        (name, field.text(number)) for name, (field, number) in row.items() if number is not None and not field.in_bits
    ]


def pair_lines(palette: Palette, width: int, pairs: Sequence[tuple[str, str]]) -> list[Line]:
    """Names and what they say, as many beside each other as fit."""
    lines: list[Line] = []
    at = width + 1
    for name, text in pairs:
        size = len(name) + 1 + len(text)
        if at + size > width:
            lines.append(Line(width, palette.style("text")))
            at = 0
        after = lines[-1].put(at, name, palette.style("dim")) + 1
        at = lines[-1].put(after, text, palette.style("text")) + 3
    return lines
