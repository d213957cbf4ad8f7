"""Plots of signals over the lens: each in a strip of its own, or all over each other, with two cursors.

Drawn from least and most of each column of dots, so that no spike is lost however long the lens is.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.chart import AXIS, Dots, row_of
from keel.app.paint.palette import Palette
from keel.app.paint.strokes import nice_step, tick_words, ticks
from keel.measure.courses import Envelope
from keel.signals.signal import Signal

COLOURS = ("sea", "brass", "plum", "slate", "text", "coral", "dim", "strong")
GUTTER = AXIS + 3


@dataclass(frozen=True)
class Plot:
    """A signal to draw: its full name, its envelope, what it is expected to be (time, value), values at the cursors."""

    name: str
    signal: Signal
    envelope: Envelope
    expected: Sequence[tuple[int, float]] = ()
    at: Sequence[float | None] = ()


@dataclass(frozen=True)
class Plots:
    """What is drawn. ``cursors`` are times in ns, ``active`` the one that moves; ``zero`` is when time is 0."""

    plots: Sequence[Plot]
    cursors: Sequence[int]
    active: int
    zero: int
    stacked: bool


def draw_plots(palette: Palette, width: int, height: int, what: Plots) -> list[Line]:
    """The plots as lines, the last two the time axis."""
    if not what.plots or height < 5 or width < GUTTER + 20:
        return [Line(width, palette.style("text")) for _ in range(height)]
    lines: list[Line] = []
    room = height - 2
    if what.stacked:
        each, rest = divmod(room, len(what.plots))
        for i, plot in enumerate(what.plots):
            tall = each + (i < rest)
            lines.append(_title(palette, width, plot, what, COLOURS[i]))
            lines += _strip(palette, width, tall - 1, [(plot, COLOURS[i])], what)
    else:
        for i, plot in enumerate(what.plots):
            lines.append(_title(palette, width, plot, what, COLOURS[i]))
        pairs = [(plot, COLOURS[i]) for i, plot in enumerate(what.plots)]
        lines += _strip(palette, width, max(room - len(what.plots), 2), pairs, what)
    return [*lines[:room], *_time_axis(palette, width, what)]


def _title(palette: Palette, width: int, plot: Plot, what: Plots, role: str) -> Line:
    line = Line(width, palette.style("text"))
    at = line.put(2, "━━ ", palette.style(role))
    at = line.put(at, plot.name, palette.style("strong", bold=True)) + 1
    at = line.put(at, plot.signal.unit, palette.style("dim")) + 3
    shown = [value_words(plot.signal, v) for v in plot.at]
    for letter, text in zip("12", shown, strict=False):
        at = line.put(at, letter, palette.style("brass", bold=True)) + 1
        at = line.put(at, text, palette.style("text")) + 3
    if not plot.signal.texts and len(plot.at) == 2 and plot.at[0] is not None and plot.at[1] is not None:
        at = line.put(at, "2 − 1", palette.style("brass", bold=True)) + 1
        at = line.put(at, plot.signal.number_words(plot.at[1] - plot.at[0]), palette.style("text")) + 3
    for time, value in plot.expected[-1:]:
        text = f"expected {plot.signal.number_words(value)} at {words.seconds(time - what.zero, 1)} s"
        line.put(at, text, palette.style("dim"))
    return line


def value_words(signal: Signal, value: float | None) -> str:
    """A physical value as a person reads it, with its text if it has one."""
    if value is None:
        return "—"
    if signal.texts and signal.number == "integer" and signal.scale:
        text = signal.texts.get(round((value - signal.offset) / signal.scale))
        if text is not None:
            return text
    return signal.number_words(value)


def _bounds(plots: Sequence[Plot]) -> tuple[float, float]:
    values = [v for p in plots for v in (p.envelope.least, p.envelope.most)]
    values += [np.array([v for _, v in p.expected]) for p in plots]
    joined = np.concatenate(values)
    joined = joined[np.isfinite(joined)]
    if not len(joined):
        return 0.0, 1.0
    low, high = float(joined.min()), float(joined.max())
    step = max(abs(p.signal.scale) for p in plots)
    margin = max((high - low) * 0.06, step * 0.6 if high - low < step * 4 else 0.0)
    return low - margin, high + margin


def _strip(palette: Palette, width: int, height: int, pairs: Sequence[tuple[Plot, str]], what: Plots) -> list[Line]:
    lines = [Line(width, palette.style("text")) for _ in range(height)]
    across = width - GUTTER - 1
    if height < 1 or across < 2:
        return lines
    # Signals of different units share no axis: each has its own height, and the first one's numbers stand there.
    units = {p.signal.unit for p, _ in pairs}
    shared = _bounds([p for p, _ in pairs]) if len(units) == 1 else None
    _values_axis(palette, lines, pairs[0][0], shared or _bounds([pairs[0][0]]))
    for plot, role in pairs:
        low, high = shared or _bounds([plot])
        dots = Dots(across, height)
        bottoms, tops = np.full((2, across * 2), np.nan)
        for column, bottom, top in _bars(plot.envelope, across * 2):
            bottoms[column], tops[column] = (bottom - low) / (high - low), (top - low) / (high - low)
        dots.bars(bottoms, tops)
        for line, text in zip(lines, dots.rows(), strict=False):
            line.inks(GUTTER, text, palette.style(role))
        for time, value in plot.expected:
            at = _place(plot.envelope, time, across)
            row = row_of((value - low) / (high - low), height)
            if at is not None:
                lines[row].ink(GUTTER + at, "●", palette.style("brass", bold=True))
    envelope = pairs[0][0].envelope
    for i, cursor in enumerate(what.cursors):
        at = _place(envelope, cursor, across)
        if at is not None:
            for line in lines:
                line.ground(palette.style("text", "raised"), GUTTER + at, GUTTER + at + 1)
                if line.text()[GUTTER + at] == " ":
                    line.ink(GUTTER + at, "│", palette.style("brass" if i == what.active else "dim"))
    return lines


def _place(envelope: Envelope, time: int, across: int) -> int | None:
    """Which cell a time lies in."""
    start, end = int(envelope.edges[0]), int(envelope.edges[-1])
    if not start <= time <= end or end == start:
        return None
    return min((time - start) * across // (end - start), across - 1)


def _bars(envelope: Envelope, columns: int) -> list[tuple[int, float, float]]:
    """For each column of dots its lowest and highest value; where there is none, the value held from before."""
    bars = []
    held = envelope.held
    for i in range(min(columns, len(envelope.least))):
        low, high = float(envelope.least[i]), float(envelope.most[i])
        if np.isnan(low):
            if not np.isnan(held) and not envelope.absent[i] and not envelope.wrong[i]:
                bars.append((i, held, held))
            continue
        first = float(envelope.first[i])
        # Held from before, then up or down to where this column begins.
        from_before = first if np.isnan(held) else held
        bars.append((i, min(low, from_before), max(high, from_before)))
        held = float(envelope.last[i])
    return bars


def _values_axis(palette: Palette, lines: list[Line], plot: Plot, bounds: tuple[float, float]) -> None:
    low, high = bounds
    height = len(lines)
    for line in lines:
        line.put(GUTTER - 1, "│", palette.style("line"))
    signal = plot.signal
    if signal.texts and len(signal.texts) <= 8:
        named = [(raw * signal.scale + signal.offset, text) for raw, text in signal.texts.items()]
    else:
        most = max(height - 1 if height < 8 else height // 2, 1)
        step = nice_step(high - low, most)
        named = [(tick, tick_words(tick, step)) for tick in ticks(low, high, most)]
    for value, text in named:
        row = row_of((value - low) / (high - low), height)
        if low <= value <= high:
            lines[row].put(GUTTER - 1, "┤", palette.style("line"))
            lines[row].put(0, text, palette.style("dim"), GUTTER - 2, True)


def _time_axis(palette: Palette, width: int, what: Plots) -> list[Line]:
    envelope = what.plots[0].envelope
    across = width - GUTTER - 1
    left, right = ((int(t) - what.zero) / 1e9 for t in (envelope.edges[0], envelope.edges[-1]))
    lines = [Line(width, palette.style("text")) for _ in range(2)]
    lines[0].put(GUTTER - 1, "└" + "─" * across, palette.style("line"))
    most = max(across // 14, 1)
    step = nice_step(right - left, most)
    for tick in ticks(left, right, most):
        place = GUTTER + int((tick - left) / max(right - left, 1e-9) * across)
        if place < width - 8:
            lines[0].put(place, "┴", palette.style("line"), 1)
            lines[1].put(place, f"{tick_words(tick, step)} s", palette.style("dim"))
    for letter, cursor in zip("12", what.cursors, strict=False):
        at = _place(envelope, cursor, across)
        if at is not None:
            lines[0].put(GUTTER + at, letter, palette.style("brass", bold=True), 1)
    return lines


def cursor_words(cursors: Sequence[int], zero: int) -> str:
    """Where the cursors stand, and what lies between them."""
    parts = [f"{number} {words.seconds(t - zero)} s" for number, t in zip("12", cursors, strict=False)]
    if len(cursors) == 2:
        between = cursors[1] - cursors[0]
        parts.append(f"2 − 1 {'−' if between < 0 else ''}{words.length(abs(between))}")
    return "   ".join(parts)
