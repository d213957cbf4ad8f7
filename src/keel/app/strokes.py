"""Small drawings in cells: bars, sparks and dotted curves. All work on arrays that are bucketed already."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

EIGHTHS = " ▁▂▃▄▅▆▇█"
LEFT_EIGHTHS = " ▏▎▍▌▋▊▉█"
SHADES = " ░▒▓█"
_DOTS = ((0x01, 0x08), (0x02, 0x10), (0x04, 0x20), (0x40, 0x80))

Values = Sequence[float] | npt.NDArray[np.float64] | npt.NDArray[np.int64]


def spark(values: Values, top: float | None = None) -> str:
    """A row of columns, one cell each; anything above 0 is at least an eighth high."""
    numbers = np.asarray(values, np.float64)
    most = top if top is not None else float(numbers.max(initial=0))
    if most <= 0:
        return " " * len(numbers)
    levels = np.clip(np.ceil(numbers / most * 8), 0, 8).astype(int)
    return "".join(EIGHTHS[level] for level in levels)


def bar(share: float, width: int) -> str:
    """A bar from the left, to an eighth of a cell."""
    eighths = round(min(max(share, 0.0), 1.0) * width * 8)
    full, rest = divmod(eighths, 8)
    return ("█" * full + (LEFT_EIGHTHS[rest] if rest else "")).ljust(width)


def shade(share: float) -> str:
    """One cell as dark as the share."""
    if share <= 0:
        return " "
    return SHADES[min(1 + int(share * 4), 4)]


class Dots:
    """A field of dots, two across and four down in a cell."""

    def __init__(self, width: int, height: int) -> None:
        self.width, self.height = width, height
        self._cells = np.zeros((max(height, 1), max(width, 1)), np.int64)

    def plot(self, x: npt.NDArray[np.float64], y: npt.NDArray[np.float64]) -> None:
        """Draw a curve; x and y from 0 (left, bottom) to 1. Steep parts are joined up."""
        across, down = self.width * 2, self.height * 4
        column = np.clip((x * (across - 1)).round().astype(int), 0, across - 1)
        row = np.clip(((1 - y) * (down - 1)).round().astype(int), 0, down - 1)
        before: tuple[int, int] | None = None
        for c, r in zip(column.tolist(), row.tolist(), strict=True):
            low, high = (r, r) if before is None else (min(r, before[1]), max(r, before[1]))
            self._dot(c, r)
            if before is not None and c - before[0] <= 2:
                for step in range(low, high + 1):
                    self._dot(c, step)
            elif before is not None:
                for step in range(before[0], c):
                    self._dot(step, before[1])
                for step in range(low, high + 1):
                    self._dot(c, step)
            before = (c, r)

    def _dot(self, column: int, row: int) -> None:
        self._cells[row // 4, column // 2] |= _DOTS[row % 4][column % 2]

    def rows(self) -> list[str]:
        """The field as text, empty cells as spaces."""
        return ["".join(chr(0x2800 + int(c)) if c else " " for c in row) for row in self._cells]


def nice_step(length: float, most: int) -> float:
    """A round step (1, 2, 5 × a power of ten) that cuts ``length`` into at most ``most`` parts."""
    if length <= 0:
        return 1.0
    raw = length / max(most, 1)
    power = 10.0 ** np.floor(np.log10(raw))
    for factor in (1, 2, 5, 10):
        if power * factor >= raw * (1 - 1e-9):
            return float(power * factor)
    return float(power * 10)


def ticks(low: float, high: float, most: int) -> list[float]:
    """Round values within a range."""
    step = nice_step(high - low, most)
    first = np.ceil(low / step - 1e-9) * step
    count = int(np.floor((high - first) / step + 1e-9)) + 1
    return [float(first + i * step) for i in range(max(count, 0))]


def tick_words(value: float, step: float) -> str:
    """A tick's value with as many decimals as the step needs."""
    decimals = max(0, int(-np.floor(np.log10(step) + 1e-9))) if step < 1 else 0
    return f"{value:.{decimals}f}"
