"""Channels drawn in cells: volts as an outline, logic as levels; where edges lie closer than dots, how busy it is."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from rich.style import Style

from keel.app.frame.helm import Here
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.chart import Dots, row_of
from keel.app.paint.strokes import nice_step, tick_words, ticks
from keel.app.views.line.moments import clock_of
from keel.model.safe_text import ascii_of
from keel.model.span import Span

if TYPE_CHECKING:
    from keel.lines.code import Field
    from keel.probe.looking import Lane, SeenFrame

GUTTER = 13
TALL = 0.35
"""A column that reaches over such a share of all is one in which the line goes up and down."""
BUSY = 3
"""So many edges in a cell are no longer drawn one by one."""
SHADES = "░▒▓"


@dataclass(frozen=True)
class Place:
    """How a lens lies on the cells of a view."""

    span: Span
    across: int

    def cell(self, time: float) -> int:
        """Which cell a time lies in, from 0; outside of the lens it lies outside."""
        return int((time - self.span.start) * self.across // max(self.span.end - self.span.start, 1))

    def time(self, cell: float) -> int:
        """The time at a cell, in ns."""
        return self.span.start + int((self.span.end - self.span.start) * cell / max(self.across, 1))


def wave_lines(here: Here, lane: Lane, role: str, height: int, bit_ns: float, cell_ns: float) -> list[Line]:
    """A channel's waveform, with an axis of volts or levels before it."""
    lines = [here.line() for _ in range(height)]
    across = here.width - GUTTER - 1
    for line in lines:
        line.put(GUTTER - 1, "│", here.style("line"))
    if lane.trouble:
        lines[0].put(GUTTER + 1, f"✕ {lane.trouble}", here.style("coral"), across - 1)
    elif lane.levels is not None:
        _logic(here, lines, lane, role, across, cell_ns / bit_ns if bit_ns else 0.0)
    elif lane.least is not None:
        _volts(here, lines, lane, role, across)
    return lines


def _volts(here: Here, lines: list[Line], lane: Lane, role: str, across: int) -> None:
    height = len(lines)
    low, high = lane.reach
    margin = max((high - low) * 0.06, 1e-6)
    low, high = low - margin, high + margin
    known = lane.entry.measured
    levels = [known[name] for name in ("low", "threshold", "high") if low < known.get(name, np.nan) < high]
    # Where it has levels they are told, and drawn as thin lines; else round numbers.
    for level in levels:
        row = row_of((level - low) / (high - low), height)
        lines[row].put(GUTTER, "─" * across, here.style("line"))
        _volts_label(here, lines[row], words.volts(level, high - low))
    step = nice_step(high - low, max(height // 2, 1))
    for tick in () if levels else ticks(low, high, max(height // 2, 1)):
        _volts_label(here, lines[row_of((tick - low) / (high - low), height)], f"{tick_words(tick, step)} V")
    tall = (lane.most - lane.least) > TALL * (lane.reach[1] - lane.reach[0])
    near = np.convolve(tall, np.ones(3), "same") >= 3
    dots = Dots(across, height)
    bottom, top = (lane.least - low) / (high - low), (lane.most - low) / (high - low)
    # Where it goes up and down faster than can be drawn, its reach alone.
    dots.bars(bottom, np.where(near, bottom, top))
    dots.bars(np.where(near, top, bottom), top)
    _ink(lines, dots.rows(), here.style(role))
    shades = [[" "] * across for _ in lines]
    both = (near[: 2 * across : 2] & near[1 : 2 * across : 2]).nonzero()[0].tolist()
    for cell in both:
        pair = slice(2 * cell, 2 * cell + 2)
        first, last = row_of(float(top[pair].max()), height), row_of(float(bottom[pair].min()), height)
        for row in range(first + 1, last):
            shades[row][cell] = SHADES[0]
    _ink(lines, ["".join(row) for row in shades], here.style("faint"))


def _volts_label(here: Here, line: Line, text: str) -> None:
    line.put(GUTTER - 1, "┤", here.style("line"))
    line.put(0, text, here.style("dim"), GUTTER - 2, True)


def _logic(here: Here, lines: list[Line], lane: Lane, role: str, across: int, bits_a_cell: float) -> None:
    height = len(lines)
    lines[0].put(0, "high", here.style("dim"), GUTTER - 2, True)
    lines[-1].put(0, "low", here.style("dim"), GUTTER - 2, True)
    levels = np.asarray(lane.levels[: 2 * across], np.float64)
    counts = np.asarray(lane.counts[: len(levels)], np.int64)
    edges = np.add.reduceat(counts, np.arange(0, len(counts), 2)) if len(counts) else counts
    busy = np.repeat(edges >= BUSY, 2)[: len(levels)]
    levels[busy] = np.nan
    levels[levels < 0] = np.nan
    dots = Dots(across, height)
    dots.bars(np.where(counts > 0, 0.04 + 0 * levels, levels), np.where(counts > 0, 0.96 + 0 * levels, levels))
    _ink(lines, dots.rows(), here.style(role))
    shares = edges / np.maximum(np.maximum(bits_a_cell, edges), 1)
    shades = np.where(edges >= BUSY, np.minimum(shares * 3, 2).astype(int), -1).tolist()
    text = "".join(SHADES[shade] if shade >= 0 else " " for shade in shades)
    _ink(lines, [text] * height, here.style(role))
    unknown = np.asarray(lane.levels[: 2 * across]) < 0
    nothing = np.logical_and.reduceat(unknown, np.arange(0, len(unknown), 2)).tolist() if len(unknown) else []
    lines[height // 2].inks(GUTTER, "".join("·" if one else " " for one in nothing), here.style("faint"))


def _ink(lines: list[Line], rows: list[str], style: Style) -> None:
    for line, text in zip(lines, rows, strict=False):
        line.inks(GUTTER, text, style)


FIELD_ROLES = {"id": "brass", "data": "text", "byte": "text", "crc": "plum", "stuff_count": "plum"}
SAYING = ("dlc", "stuff_count")
"""Of these the number is of interest; of single bits and of what is always alike the name alone."""


FEWEST_CELLS = 5
"""A frame that has fewer cells is a mark alone."""


def frame_lines(
    here: Here, place: Place, frames: Sequence[SeenFrame], role: str, in_hand: int | None, form: str, has_bits: bool
) -> list[Line]:
    """Rows over a waveform: fields over their bits, the bits where they are told, and a bracket for each frame.

    Args:
        here, place: The screen, and the lens on it.
        frames: Those over this channel.
        role: The colour of its bus.
        in_hand: The number of the frame in hand.
        form: How bytes are written.
        has_bits: Whether there is a row of bits.
    """
    fields, brackets, bits = here.line(), here.line(), here.line()
    marks: dict[int, bool] = {}
    narrow = FEWEST_CELLS * (place.span.end - place.span.start) / max(place.across, 1)
    for frame in frames:
        if frame.end - frame.start < narrow:
            cell = max(place.cell(frame.start), 0)
            marks[cell] = marks.get(cell, False) or bool(frame.faults)
            continue
        low, high = max(place.cell(frame.start), 0), min(place.cell(frame.end), place.across)
        text = f"{'✕ ' + frame.faults + ' ' if frame.faults else ''}{frame.ident}"
        shown = bytes_words(frame.payload[: high - low], form)
        colour, bold = "coral" if frame.faults else role, frame.number == in_hand
        _bracket(brackets, low, high, f"{text}  {shown}".strip(), here, colour, bold)
        for field in (*frame.fields, *frame.close.bytes):
            a, b = place.cell(field.start), place.cell(field.end)
            if b > 0 and a < place.across:
                _field(fields, max(a, 0), min(b, place.across), field, here, form)
        if has_bits:
            _bits(bits, place, frame, here)
    for cell, is_faulty in marks.items():
        if cell < place.across:
            brackets.put(GUTTER + cell, "✕" if is_faulty else "▪", here.style("coral" if is_faulty else role), 1)
    return [fields, bits, brackets] if has_bits else [fields, brackets]


def bytes_words(payload: bytes, form: str) -> str:
    """Bytes as they are written: in hex, in decimal, or as the text that they are."""
    if form == "text":
        return ascii_of(payload)
    return " ".join(f"{byte:02X}" if form == "hex" else str(byte) for byte in payload)


def _bits(line: Line, place: Place, frame: SeenFrame, here: Here) -> None:
    """What each bit says, in its middle; one that was put in stands out and is no part of what is said."""
    cell_ns = (place.span.end - place.span.start) / max(place.across, 1)
    for bit in frame.close.bits:
        a, b = place.cell(bit.start), place.cell(bit.end)
        # Of bits that share cells some would be missing: then none is told.
        if b <= 0 or a >= place.across or bit.end - bit.start < cell_ns:
            continue
        low, high = max(a, 0), min(b, place.across)
        role = "plum" if bit.is_stuff else "text"
        if bit.is_stuff and high - low > 1:
            line.put(GUTTER + low, "×" * (high - low - 1), here.style("faint"), high - low - 1)
        line.put(GUTTER + (low + high - 1) // 2, str(bit.level), here.style(role, bold=bit.is_stuff), 1)


def _bracket(line: Line, low: int, high: int, text: str, here: Here, role: str, bold: bool) -> None:
    """A frame's bracket with what it says in it."""
    style = here.style(role, bold=bold)
    line.put(GUTTER + low, "╰" + "─" * max(high - low - 2, 0) + "╯", style, high - low)
    room = high - low - 4
    if room >= 3:
        shown = text if len(text) <= room else text[: room - 1] + "…"
        at = GUTTER + low + (high - low - len(shown) - 2) // 2
        line.put(at, f" {shown} ", here.style("strong" if bold else role, bold=bold))


def said_of(field: Field, form: str) -> str:
    """What a field says: a byte as bytes are written, a wrong checksum beside the one that was expected."""
    if field.expected is not None:
        return f"{field.text}, expected {field.expected}"
    if field.name == "byte" and field.value is not None and 0 <= field.value <= MOST_OF_A_BYTE:
        return bytes_words(bytes([int(field.value)]), form)
    if field.name == "data" and form != "hex" and field.text:
        return bytes_words(bytes.fromhex(field.text), form)
    if field.name == "dlc" and field.text is not None and field.value is not None:
        return f"{field.value:g} = {field.text}"
    return field.text if field.text is not None else ""


MOST_OF_A_BYTE = 255


def _field(line: Line, low: int, high: int, field: Field, here: Here, form: str) -> None:
    """A field over its bits: its name and what it says, as far as there is room."""
    name, fault = field.name, field.fault
    role = "coral" if fault else FIELD_ROLES.get(name, "dim")
    wide = high - low
    said = said_of(field, form)
    if not said and field.value is not None and name in SAYING:
        said = f"{field.value:g}"
    shown = said if name == "byte" else f"{name} {said}".strip()
    shown = f"✕ {shown}" if fault else shown
    for one in (shown, said if name in ("id", "data", "byte", "crc") else name, name, said):
        if one and len(one) <= wide - 1:
            rest = wide - 1 - len(one)
            whole = "─" * (rest // 2) + one + "─" * (rest - rest // 2)
            line.put(GUTTER + low, whole, here.style(role))
            return
    if wide >= 3 and said:
        line.put(GUTTER + low, said[: wide - 2] + "…", here.style(role))
    elif wide >= 1:
        line.put(GUTTER + low, "─" * max(wide - 1, 1), here.style(role), max(wide - 1, 1))


def axis_lines(here: Here, place: Place, cursors: Sequence[int], active: int) -> list[Line]:
    """The time axis."""
    lines = [here.line(), here.line()]
    clock = clock_of(here, place.across)
    zero, size, unit = clock.zero, clock.size, clock.unit
    lines[0].put(GUTTER - 1, "└" + "─" * place.across, here.style("line"))
    left, right = (place.span.start - zero) / size, (place.span.end - zero) / size
    wide = len(f"{right:.3f} {unit}") + 4
    most = max(place.across // max(wide, 16), 1)
    step = nice_step(right - left, most)
    for tick in ticks(left, right, most):
        at = GUTTER + int((tick - left) / max(right - left, 1e-12) * place.across)
        text = f"{tick_words(tick, step)} {unit}"
        if at + len(text) < here.width:
            lines[0].put(at, "┴", here.style("line"), 1)
            lines[1].put(at, text, here.style("dim"))
    for number, cursor in enumerate(cursors):
        cell = place.cell(cursor)
        if 0 <= cell < place.across:
            role = "brass" if number == active else "dim"
            lines[0].put(GUTTER + cell, "12"[number], here.style(role, bold=True), 1)
    return lines


def draw_cursors(here: Here, lines: Sequence[Line], place: Place, cursors: Sequence[int], active: int) -> None:
    """The cursors through all lanes."""
    for number, cursor in enumerate(cursors):
        cell = place.cell(cursor)
        if 0 <= cell < place.across:
            for line in lines:
                line.ground(here.style("text", "raised"), GUTTER + cell, GUTTER + cell + 1)
                if line.text()[GUTTER + cell] in " ─":
                    line.ink(GUTTER + cell, "│", here.style("brass" if number == active else "dim"))
