"""Waveforms on paper: each channel in a strip of its own, what was read of it above, cursors."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from keel.draw.sheet import BRASS, CORAL, DIM, INK, LINE, PLUM, SLATE, bus_colour, new_sheet, save, words
from keel.lines.code import Field
from keel.model.span import Span
from keel.probe.looking import Lane, SeenFrame
from keel.store.waveform_entries import LineEntry

FIELD_COLOURS = {"id": BRASS, "crc": PLUM, "stuff_count": PLUM, "data": INK, "byte": INK}
SAYING = ("dlc", "stuff_count")
UNITS = ((4e3, 1.0, "ns"), (4e6, 1e3, "µs"), (4e9, 1e6, "ms"))
WIDE_CHAR = 0.0085
"""How wide a character is, as a share of the sheet."""
Strip = tuple[Lane, LineEntry | None]
"""A channel, and the line that was read from it."""


def draw_line(
    path: Path,
    title: str,
    strips: Sequence[Strip],
    frames: Sequence[SeenFrame],
    span: Span,
    zero: int,
    cursors: Sequence[int] = (),
) -> None:
    """Channels over a span.

    Args:
        path: Where to.
        title: What stands above.
        strips: The channels; their cells lie evenly over the span.
        frames: What was read, with fields where there is room for them.
        span: In ns.
        zero: When time is 0.
        cursors: Moments to mark.
    """
    size, unit = next(((s, u) for most, s, u in UNITS if span.end - span.start < most), (1e9, "s"))
    figure = new_sheet(10.0, 0.8 + sum(1.2 if lane.levels is not None else 1.9 for lane, _ in strips))
    ratios = [1.0 if lane.levels is not None else 1.7 for lane, _ in strips]
    found = figure.subplots(len(strips), 1, sharex=True, squeeze=False, gridspec_kw={"height_ratios": ratios})[:, 0]
    for axes, (lane, line) in zip(found, strips, strict=True):
        colour = bus_colour(line.bus) if line is not None else SLATE
        low, high = _wave(axes, lane, span, zero, size, colour)
        name = lane.entry.name
        mine = [one for one in frames if line is not None and one.bus == line.bus and line.shows(name, one.form)]
        above = 0.42 * (high - low) if mine else 0.06 * (high - low)
        axes.set_ylim(low - 0.06 * (high - low), high + above)
        for frame in mine:
            _frame(axes, frame, span, zero, size, high, high - low, colour)
        for number, cursor in enumerate(cursors):
            at = (cursor - zero) / size
            axes.axvline(at, color=BRASS, linewidth=0.8)
            axes.text(at, 1.0, f" {number + 1}", color=BRASS, va="bottom", fontsize=8,
                      transform=axes.get_xaxis_transform())  # fmt: skip
        axes.set_title(words(name))
        axes.set_xlim((span.start - zero) / size, (span.end - zero) / size)
    found[-1].set_xlabel(unit)
    figure.suptitle(words(title), x=0.01, ha="left", color=DIM, fontsize=9)
    save(figure, path)


def _wave(axes: Any, lane: Lane, span: Span, zero: int, size: float, colour: str) -> tuple[float, float]:
    """A channel; gives the least and the most of its axis."""
    if lane.levels is not None:
        edges = (np.linspace(span.start, span.end, len(lane.levels) + 1) - zero) / size
        busy = lane.counts > 1
        level = np.where(lane.levels < 0, np.nan, lane.levels)
        axes.step(edges[:-1], level, where="post", color=colour, linewidth=0.9)
        axes.fill_between(edges[:-1], 0, 1, where=busy, step="post", color=colour, alpha=0.35, lw=0)
        axes.set_yticks([0, 1], ["low", "high"])
        return 0.0, 1.0
    if lane.least is not None:
        edges = (np.linspace(span.start, span.end, len(lane.least) + 1) - zero) / size
        middles = (edges[:-1] + edges[1:]) / 2
        axes.fill_between(middles, lane.least, lane.most, color=colour, lw=0.7, edgecolor=colour, alpha=0.9)
        threshold = lane.entry.measured.get("threshold")
        if threshold is not None:
            axes.axhline(threshold, color=LINE, linewidth=0.6)
        axes.set_ylabel("V")
        low, high = lane.reach
        return low, high if high > low else low + 1.0
    axes.text(0.01, 0.5, words(lane.trouble), transform=axes.transAxes, color=CORAL)
    return 0.0, 1.0


def _frame(
    axes: Any, frame: SeenFrame, span: Span, zero: int, size: float, top: float, reach: float, colour: str
) -> None:
    """A frame's bracket, and its fields below it."""
    role = CORAL if frame.faults else colour
    begin, end = (max(frame.start, span.start) - zero) / size, (min(frame.end, span.end) - zero) / size
    height = top + 0.27 * reach
    axes.plot(
        [begin, begin, end, end], [height - 0.04 * reach, height, height, height - 0.04 * reach], color=role, lw=0.8
    )
    said = " ".join([frame.ident, *(f"{byte:02X}" for byte in frame.payload[:64]), frame.faults]).strip()
    _text(axes, begin, end, height + 0.02 * reach, said, role, span, size)
    for field in frame.fields:
        if field.end > span.start and field.start < span.end:
            a, b = (max(field.start, span.start) - zero) / size, (min(field.end, span.end) - zero) / size
            shade = CORAL if field.fault else FIELD_COLOURS.get(field.name, DIM)
            axes.plot([a, b], [top + 0.08 * reach] * 2, color=shade, lw=1.4, solid_capstyle="butt")
            _text(axes, a, b, top + 0.1 * reach, _said(field), shade, span, size)


def _said(field: Field) -> str:
    value = field.text or ""
    if field.text is None and field.value is not None and field.name in SAYING:
        value = f"{field.value:g}"
    return value if field.name == "byte" else f"{field.name} {value}".strip()


def _text(axes: Any, a: float, b: float, y: float, text: str, colour: str, span: Span, size: float) -> None:
    """Text between two places, as far as there is room for it."""
    room = int((b - a) / ((span.end - span.start) / size) / WIDE_CHAR)
    if room >= min(len(text), 3):
        shown = text if len(text) <= room else text[: room - 1] + "…"
        axes.text((a + b) / 2, y, shown, ha="center", va="bottom", fontsize=7, color=colour)
