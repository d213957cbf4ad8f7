"""Channels drawn in cells: volts as an outline, logic as levels; where edges lie closer than dots, how busy it is."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from keel.app.frame.helm import Here
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.chart import Dots, row_of
from keel.app.paint.strokes import nice_step, tick_words, ticks
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
    for column in range(min(len(tall), across * 2)):
        if np.isnan(bottom[column]):
            continue
        if near[column]:
            # It goes up and down faster than can be drawn: its reach alone.
            dots.bar(column, bottom[column], bottom[column])
            dots.bar(column, top[column], top[column])
        else:
            dots.bar(column, bottom[column], top[column])
    _ink(here, lines, dots.rows(), role)
    for cell in range(across):
        pair = slice(2 * cell, 2 * cell + 2)
        if near[pair].all() and len(near[pair]):
            first, last = row_of(float(top[pair].max()), height), row_of(float(bottom[pair].min()), height)
            for line in lines[first + 1 : last]:
                line.ink(GUTTER + cell, SHADES[0], here.style("faint"))


def _volts_label(here: Here, line: Line, text: str) -> None:
    line.put(GUTTER - 1, "┤", here.style("line"))
    line.put(0, text, here.style("dim"), GUTTER - 2, True)


def _logic(here: Here, lines: list[Line], lane: Lane, role: str, across: int, bits_a_cell: float) -> None:
    height = len(lines)
    lines[0].put(0, "high", here.style("dim"), GUTTER - 2, True)
    lines[-1].put(0, "low", here.style("dim"), GUTTER - 2, True)
    counts, levels = lane.counts, lane.levels
    dots = Dots(across, height)
    busy = {}
    for cell in range(across):
        pair = range(2 * cell, min(2 * cell + 2, len(levels)))
        edges = int(sum(counts[k] for k in pair))
        if edges >= BUSY:
            busy[cell] = edges
            continue
        for k in pair:
            if levels[k] >= 0:
                dots.bar(k, 0.04 if counts[k] else float(levels[k]), 0.96 if counts[k] else float(levels[k]))
    _ink(here, lines, dots.rows(), role)
    for cell, edges in busy.items():
        share = edges / max(bits_a_cell, edges, 1)
        for line in lines:
            line.ink(GUTTER + cell, SHADES[min(int(share * 3), 2)], here.style(role))
    for cell in range(across):
        both = levels[2 * cell : 2 * cell + 2]
        if len(both) and (both < 0).all():
            lines[height // 2].ink(GUTTER + cell, "·", here.style("faint"))


def _ink(here: Here, lines: list[Line], rows: list[str], role: str) -> None:
    for line, text in zip(lines, rows, strict=False):
        for at, char in enumerate(text):
            if char != " ":
                line.ink(GUTTER + at, char, here.style(role))


FIELD_ROLES = {"id": "brass", "data": "text", "byte": "text", "crc": "plum", "stuff_count": "plum"}
SAYING = ("dlc", "stuff_count")
"""Of these the number is of interest; of single bits and of what is always alike the name alone."""


def frame_lines(here: Here, place: Place, frames: Sequence[SeenFrame], role: str, in_hand: int | None) -> list[Line]:
    """Two rows over a waveform: fields over their bits, and a bracket for each frame."""
    fields, brackets = here.line(), here.line()
    for frame in frames:
        low, high = max(place.cell(frame.start), 0), min(place.cell(frame.end), place.across)
        if high <= low:
            high = low + 1
        colour = "coral" if frame.faults else role
        bold = frame.number == in_hand
        wide = high - low
        text = f"{'✕ ' + frame.faults + ' ' if frame.faults else ''}{frame.ident}"
        if wide >= 5:
            shown = " ".join(f"{byte:02X}" for byte in frame.payload[:wide])
            _bracket(brackets, low, high, f"{text}  {shown}".strip(), here, colour, bold)
        elif low < place.across:
            brackets.put(GUTTER + low, "✕" if frame.faults else "▪", here.style(colour, bold=bold), 1)
        for field in frame.fields:
            a, b = place.cell(field.start), place.cell(field.end)
            if b > 0 and a < place.across:
                _field(fields, max(a, 0), min(b, place.across), field, here)
    return [fields, brackets]


def _bracket(line: Line, low: int, high: int, text: str, here: Here, role: str, bold: bool) -> None:
    """A frame's bracket with what it says in it."""
    style = here.style(role, bold=bold)
    line.put(GUTTER + low, "╰" + "─" * max(high - low - 2, 0) + "╯", style, high - low)
    room = high - low - 4
    if room >= 3:
        shown = text if len(text) <= room else text[: room - 1] + "…"
        at = GUTTER + low + (high - low - len(shown) - 2) // 2
        line.put(at, f" {shown} ", here.style("strong" if bold else role, bold=bold))


def _field(line: Line, low: int, high: int, field: Field, here: Here) -> None:
    """A field over its bits: its name and what it says, as far as there is room."""
    name, fault = field.name, field.fault
    role = "coral" if fault else FIELD_ROLES.get(name, "dim")
    wide = high - low
    said = field.text if field.text is not None else ""
    if field.text is None and field.value is not None and name in SAYING:
        said = f"{field.value:g}"
    shown = said if name == "byte" else f"{name} {said}".strip()
    shown = f"✕ {shown}" if fault else shown
    for one in (shown, said if name in ("id", "data", "byte", "crc") else name, name):
        if one and len(one) <= wide - 1:
            rest = wide - 1 - len(one)
            whole = "─" * (rest // 2) + one + "─" * (rest - rest // 2)
            line.put(GUTTER + low, whole, here.style(role))
            return
    if wide >= 3 and said:
        line.put(GUTTER + low, said[: wide - 2] + "…", here.style(role))
    elif wide >= 1:
        line.put(GUTTER + low, "─" * max(wide - 1, 1), here.style(role), max(wide - 1, 1))


UNITS = ((1e3, 1.0, "ns"), (1e6, 1e3, "µs"), (1e9, 1e6, "ms"), (np.inf, 1e9, "s"))
"""Up to which length of the lens its axis is in which unit, and how many ns that is."""


MOST_OF_A_UNIT = 100_000
"""Moments of greater numbers are told in the next unit."""


def axis_lines(here: Here, place: Place, zero: int, cursors: Sequence[int], active: int) -> list[Line]:
    """The time axis."""
    lines = [here.line(), here.line()]
    length = place.span.end - place.span.start
    farthest = max(abs(place.span.start - zero), abs(place.span.end - zero))
    _, size, unit = next(
        one for one in UNITS if length < 4 * one[0] and (farthest < MOST_OF_A_UNIT * one[1] or one is UNITS[-1])
    )
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
