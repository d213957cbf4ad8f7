"""A chart in cells: axes with round numbers, dotted curves, shaded spans."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from keel.app.paint.canvas import Line
from keel.app.paint.palette import Palette
from keel.app.paint.strokes import nice_step, tick_words, ticks

AXIS = 8
_DOTS = ((0x01, 0x08), (0x02, 0x10), (0x04, 0x20), (0x40, 0x80))


class Dots:
    """A field of dots, two across and four down in a cell."""

    def __init__(self, width: int, height: int) -> None:
        self.width, self.height = width, height
        self._cells = np.zeros((max(height, 1), max(width, 1)), np.int64)

    def plot(self, x: npt.NDArray[np.float64], y: npt.NDArray[np.float64]) -> None:
        """Draw a curve; x and y from 0 (left, bottom) to 1. Values are held, so that it makes steps."""
        across, down = self.width * 2, self.height * 4
        column = np.clip((x * (across - 1)).round().astype(int), 0, across - 1)
        row = np.clip(((1 - y) * (down - 1)).round().astype(int), 0, down - 1)
        before: tuple[int, int] | None = None
        for c, r in zip(column.tolist(), row.tolist(), strict=True):
            if before is None:
                before = (c, r)
            # Each value lasts until the next: along, then up or down.
            for step in range(before[0], c + 1):
                self._dot(step, before[1])
            for step in range(min(r, before[1]), max(r, before[1]) + 1):
                self._dot(c, step)
            before = (c, r)

    def bars(self, low: npt.NDArray[np.float64], high: npt.NDArray[np.float64]) -> None:
        """Draw from ``low`` to ``high`` (0 is the bottom, 1 the top) in each column of dots; NaN: nothing."""
        across, down = self.width * 2, self.height * 4
        count = min(len(low), across)
        drawn = ~np.isnan(low[:count])
        top = np.full(across, down)
        bottom = np.full(across, -1)
        top[:count][drawn] = np.clip(np.rint((1 - high[:count][drawn]) * (down - 1)), 0, down - 1)
        bottom[:count][drawn] = np.clip(np.rint((1 - low[:count][drawn]) * (down - 1)), 0, down - 1)
        rows = np.arange(down)[:, None]
        inside = ((rows >= top) & (rows <= bottom)).reshape(self.height, 4, self.width, 2)
        self._cells |= np.einsum("hdwc,dc->hw", inside, np.array(_DOTS))

    def _dot(self, column: int, row: int) -> None:
        self._cells[row // 4, column // 2] |= _DOTS[row % 4][column % 2]

    def rows(self) -> list[str]:
        """The field as text, empty cells as spaces."""
        return ["".join(chr(0x2800 + int(c)) if c else " " for c in row) for row in self._cells]


def row_of(share: float, height: int) -> int:
    """The row of cells that a height from 0 (bottom) to 1 lies in, as `Dots` draws it."""
    return min(max(round((1 - share) * (height * 4 - 1)) // 4, 0), height - 1)


@dataclass(frozen=True)
class Curve:
    """A curve; ``x`` and ``y`` in the chart's units, shape (n,)."""

    x: npt.NDArray[np.float64]
    y: npt.NDArray[np.float64]
    role: str


@dataclass(frozen=True)
class Dot:
    """A single point, drawn over the curves."""

    x: float
    y: float


@dataclass(frozen=True)
class Chart:
    """What a chart shows. ``spans`` are shaded stretches of x."""

    curves: Sequence[Curve]
    x: tuple[float, float]
    y: tuple[float, float]
    y_unit: str = ""
    x_unit: str = "s"
    spans: Sequence[tuple[float, float]] = field(default_factory=tuple)
    dots: Sequence[Dot] = field(default_factory=tuple)


def draw_chart(palette: Palette, width: int, height: int, chart: Chart) -> list[Line]:
    """The chart as lines: ``height`` in all, the last one the x axis's numbers."""
    style = palette.style
    lines = [Line(width, style("text")) for _ in range(height)]
    across, down = width - AXIS - 2, height - 2
    if across < 8 or down < 2:
        return lines
    low, high = chart.y
    # Apart as far as numbers of that size can be told apart.
    least = max(abs(low), abs(high)) * 1e-9
    if high - low <= least:
        low, high = low - max(least, 1), high + max(least, 1)
    left, right = chart.x if chart.x[1] > chart.x[0] else (chart.x[0], chart.x[0] + 1)
    for start, end in chart.spans:
        a = AXIS + 1 + int((start - left) / (right - left) * across)
        b = AXIS + 1 + int(np.ceil((end - left) / (right - left) * across))
        for line in lines[:down]:
            line.ground(style("text", "raised"), max(a, AXIS + 1), min(max(b, a + 1), AXIS + 1 + across))
    _y_axis(palette, lines, low, high, down, chart.y_unit)
    for curve in chart.curves:
        dots = Dots(across, down)
        inside = (curve.x >= left) & (curve.x <= right)
        dots.plot((curve.x[inside] - left) / (right - left), np.clip((curve.y[inside] - low) / (high - low), 0, 1))
        for line, text in zip(lines, dots.rows(), strict=False):
            line.inks(AXIS + 1, text, style(curve.role))
    for dot in chart.dots:
        if left <= dot.x <= right and low <= dot.y <= high:
            row = row_of((dot.y - low) / (high - low), down)
            at = AXIS + 1 + min(int((dot.x - left) / (right - left) * across), across - 1)
            lines[row].ink(at, "●", style("brass", bold=True))
    lines[down].put(AXIS, "└" + "─" * across, style("line"))
    step = nice_step(right - left, max(across // 14, 1))
    for tick in ticks(left, right, max(across // 14, 1)):
        place = AXIS + 1 + int((tick - left) / (right - left) * across)
        if place < width - 8:
            lines[down].put(place, "┴", style("line"), 1)
            lines[down + 1].put(place, f"{tick_words(tick, step)} {chart.x_unit}", style("dim"))
    return lines


def _y_axis(palette: Palette, lines: list[Line], low: float, high: float, down: int, unit: str) -> None:
    style = palette.style
    for line in lines[:down]:
        line.put(AXIS, "│", style("line"))
    step = nice_step(high - low, max(down // 2, 1))
    for tick in ticks(low, high, max(down // 2, 1)):
        row = row_of((tick - low) / (high - low), down)
        lines[row].put(AXIS, "┤", style("line"))
        lines[row].put(0, f"{tick_words(tick, step)}{unit}", style("dim"), AXIS - 1, True)
