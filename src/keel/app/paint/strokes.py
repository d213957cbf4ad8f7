"""Small drawings in cells: bars and sparks, and round numbers for axes. All work on values that are bucketed already.

Without NumPy: the first screen is painted before that is loaded.
"""

from __future__ import annotations

from collections.abc import Iterable
from math import ceil, floor, log10

EIGHTHS = " ▁▂▃▄▅▆▇█"
LEFT_EIGHTHS = " ▏▎▍▌▋▊▉█"
SHADES = " ░▒▓█"


def spark(values: Iterable[float], top: float | None = None) -> str:
    """A row of columns, one cell each; anything above 0 is at least an eighth high."""
    numbers = [float(value) for value in values]
    most = top if top is not None else max(numbers, default=0.0)
    if most <= 0:
        return " " * len(numbers)
    return "".join(EIGHTHS[min(max(ceil(number / most * 8), 0), 8)] for number in numbers)


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


def nice_step(length: float, most: int) -> float:
    """A round step (1, 2, 5 × a power of ten) that cuts ``length`` into at most ``most`` parts."""
    if length <= 0:
        return 1.0
    raw = length / max(most, 1)
    power = 10.0 ** floor(log10(raw))
    for factor in (1, 2, 5, 10):
        if power * factor >= raw * (1 - 1e-9):
            return float(power * factor)
    return float(power * 10)


def ticks(low: float, high: float, most: int) -> list[float]:
    """Round values within a range."""
    step = nice_step(high - low, most)
    first = ceil(low / step - 1e-9) * step
    count = floor((high - first) / step + 1e-9) + 1
    return [float(first + i * step) for i in range(max(count, 0))]


def tick_words(value: float, step: float) -> str:
    """A tick's value with as many decimals as the step needs."""
    decimals = max(0, -floor(log10(step) + 1e-9)) if step < 1 else 0
    return f"{value:.{decimals}f}"
