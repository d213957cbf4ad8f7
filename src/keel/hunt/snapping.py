"""Scales and offsets that engineers choose.

A fit through a few points gives a scale with an error. Engineers choose 0.1, 0.125, 1/256, 0.5 and offsets like 0,
-40 or -273, so among all values the evidence allows, those are much likelier. The same goes for what the evidence
cannot tell: whether bits above the field that never moved belong to it, and whether it is signed.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from keel.model.fields import BitField

Floats = npt.NDArray[np.float64]

FREE_SCALE = 7.0
"""What a scale costs that nobody would choose, in nats; tabled ones cost less."""
FREE_OFFSET = 6.0


@dataclass(frozen=True)
class Line:
    """A scale and an offset; ``cost`` in nats, lower is likelier."""

    field: BitField
    scale: float
    offset: float
    cost: float


def _scales() -> list[tuple[float, float]]:
    """Scales and their costs."""
    found: dict[float, float] = {}

    def add(scale: float, cost: float) -> None:
        scale = float(f"{scale:.12g}")
        found[scale] = min(found.get(scale, 99.0), cost)

    for power in range(-7, 5):
        ten = 10.0**power
        # Far from 1 they grow rarer.
        rare = 0.25 * max(abs(power + 1) - 1, 0)
        add(ten, 0.0 + rare)
        for digit, cost in (
            (5, 0.6),
            (2, 0.8),
            (2.5, 1.6),
            (4, 1.6),
            (1.25, 1.8),
            (1.5, 2.6),
            (3, 2.6),
            (8, 2.6),
            (6, 2.8),
            (7.5, 2.8),
        ):
            add(digit * ten, cost + rare)
    for shift in range(-16, 5):
        add(2.0**shift, 1.0 if shift >= -10 else 2.0)
    for top in (100, 360, 250, 200, 1000, 10, 5, 120):
        for full in (255, 254, 250, 256, 1023, 1000, 4095, 65535, 65536, 64255, 127, 100):
            add(top / full, 3.2)
    for scale in (1 / 3.6, 0.36, 3.6, 0.036, 0.0036, 1.60934, 0.45359237, 180 / 3.14159265358979, 0.0174532925199):
        add(scale, 4.0)
    return sorted(found.items())


SCALES = _scales()
_SCALE_VALUES = np.array([scale for scale, _ in SCALES])
_SCALE_COSTS = np.array([cost for _, cost in SCALES])


def offset_cost(offset: float, scale: float) -> float:
    """What an offset costs."""
    size = abs(offset)
    if size < 1e-9 * max(scale, 1e-9) or size == 0:
        return 0.0
    if size in (40.0, 273.0, 273.15, 50.0, 100.0, 1000.0, 500.0, 200.0, 250.0, 125.0):
        return 1.2 if offset < 0 else 2.2
    digits = _digits(size)
    side = 0.0 if offset < 0 else 0.7
    return min(1.6 + 1.1 * (digits - 1) + side, FREE_OFFSET)


def _digits(size: float) -> int:
    """How many digits a number has that say something."""
    text = f"{size:.5e}".split("e")[0].replace(".", "").rstrip("0")
    return max(len(text), 1)


def snap(x: Floats, y: Floats, weights: Floats, fields: list[tuple[BitField, float]], spread: float) -> Line:
    """The likeliest line through points, as a scale and an offset that somebody chose.

    Args:
        x: Raw values of the first field in ``fields``, shape (n,).
        y: What was observed.
        weights: One over the square of each point's spread; 0 leaves it out.
        fields: Ways to read the field: each with the constant it adds to the raw value.
        spread: By how much (squared) the points lie farther from the line than their spreads say; at least 1.

    Returns:
        The best line over all ways.
    """
    w = weights / max(spread, 1.0)
    total = w.sum()
    mx, my = float((w * x).sum() / total), float((w * y).sum() / total)
    xx = float((w * (x - mx) ** 2).sum())
    xy = float((w * (x - mx) * (y - my)).sum())
    slope = xy / xx if xx > 0 else 0.0
    if slope == 0:
        return Line(fields[0][0], 0.0, my, FREE_SCALE + FREE_OFFSET)
    error = 1 / np.sqrt(xx)
    best: Line | None = None
    for scale, scale_cost in _near(slope, error):
        worse = 0.5 * xx * (scale - slope) ** 2
        for field, added in fields:
            # The offset that fits best with this scale, and round ones near it.
            middle = my - scale * (mx + added)
            for offset, cost in _offsets(middle, 1 / np.sqrt(total), abs(scale)):
                lost = worse + 0.5 * total * (offset - middle) ** 2
                price = lost + scale_cost + cost
                if best is None or price < best.cost - 1e-9:
                    best = Line(field, scale, offset, price)
    assert best is not None
    return best


def _near(slope: float, error: float) -> list[tuple[float, float]]:
    """Scales within the error: tabled ones, and the fitted one as it is."""
    size = abs(slope)
    reach = max(4 * error, size * 1e-4)
    low, high = np.searchsorted(_SCALE_VALUES, [size - reach, size + reach])
    sign = 1.0 if slope > 0 else -1.0
    minus = 0.0 if slope > 0 else 2.5
    found = [(sign * float(_SCALE_VALUES[i]), float(_SCALE_COSTS[i]) + minus) for i in range(low, high)]
    return [*found, (slope, FREE_SCALE + minus)]


def _offsets(middle: float, error: float, scale: float) -> list[tuple[float, float]]:
    found = [(middle, FREE_OFFSET), (0.0, 0.0)]
    reach = max(5 * error, 1e-12)
    for power in range(int(np.floor(np.log10(max(abs(middle) + reach, 1e-9)))), -8, -1):
        step = 10.0**power
        for part in (step, step / 2, step / 4):
            near = float(f"{round(middle / part) * part:.12g}")
            if abs(near - middle) <= reach:
                found.append((near, offset_cost(near, scale)))
        if step < reach / 50:
            break
    for known in (-40.0, -273.0, -273.15, -50.0):
        if abs(known - middle) <= reach:
            found.append((known, offset_cost(known, scale)))
    return found


def ways_to_read(field: BitField, constant_above: int, constant_values: int) -> list[tuple[BitField, float]]:
    """The ways a field may go on above, and be signed, without a bit that ever moved saying which.

    Args:
        field: The bits that move.
        constant_above: How many bits above it never move and belong to no other field.
        constant_values: What they hold, as a number.

    Returns:
        Fields and what each adds to the raw value of ``field``. Zeros above change nothing: the field as it is
        comes first.
    """
    ways = [(field, 0.0)]
    length = field.length
    for more in range(1, constant_above + 1):
        held = constant_values & (1 << more) - 1
        if length + more > 64 or not held >> more - 1 & 1:
            continue
        bits = field.longer(more)
        if bits is None:
            break
        added = float(held << length)
        ways.append((bits, added))
        ways.append((BitField(bits.start, bits.length, bits.order, True), added - 2.0 ** (length + more)))
    return ways
