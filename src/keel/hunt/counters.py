"""Counters: fields that go on by the same step with every frame."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from keel.model.fields import BitField, Order, bit_above, extract
from keel.model.frames import Bytes

LOOKED_AT = 6000
LEAST_FRAMES = 12
NEARLY_ALL = 0.92
SURE = 0.95

Ints = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Counter:
    """A counter: it goes from ``low`` to ``high`` by ``step``, then round; ``right`` is the share of frames that do."""

    field: BitField
    step: int
    low: int
    high: int
    right: float

    @property
    def algorithm(self) -> str:
        """In words, as ``+1, 0 to 14``."""
        full = (1 << self.field.length) - 1
        return f"{self.step:+d}" + ("" if (self.low, self.high) == (0, full) else f", {self.low} to {self.high}")


def skips(counter: Counter, payloads: Bytes) -> npt.NDArray[np.bool_]:
    """Which frames, from the second on, do not go on from the one before; shape (n - 1,)."""
    return ~_goes_on(extract(counter.field, payloads), counter.step, counter.low, counter.high)


def _goes_on(values: Ints, step: int, low: int, high: int) -> npt.NDArray[np.bool_]:
    size = high - low + 1
    return np.asarray((values[:-1] - low + step) % size == values[1:] - low)


def find_counters(payloads: Bytes) -> list[Counter]:
    """The counters of an identifier, in frames one after another; shape (n, bytes)."""
    rows = payloads[:LOOKED_AT]
    if len(rows) < LEAST_FRAMES:
        return []
    bits = np.unpackbits(rows, axis=1, bitorder="little")
    rates = (bits[1:] != bits[:-1]).mean(axis=0)
    found: list[Counter] = []
    taken: set[int] = set()
    for low_bit in np.flatnonzero(rates >= NEARLY_ALL - 0.04).tolist():
        if low_bit in taken:
            continue
        best = max(
            (c for order in ("little", "big") if (c := _grow(low_bit, order, rows, rates)) is not None),
            key=lambda c: c.field.length,
            default=None,
        )
        if best is not None:
            found.append(best)
            taken.update(best.field.bits)
    return found


def _grow(low_bit: int, order: Order, rows: Bytes, rates: npt.NDArray[np.float64]) -> Counter | None:
    """The longest counter whose lowest bit this is."""
    bits: list[int] = [low_bit]
    best: Counter | None = None
    while len(bits) < 64:
        up = bit_above(bits[-1], order)
        if not 0 <= up < len(rates) or rates[up] == 0 or rates[up] > 0.75 * rates[bits[-1]] + 0.02:
            break
        bits.append(up)
        one_byte = bits[0] // 8 == bits[-1] // 8
        field = BitField.from_bits(tuple(bits), "little" if one_byte else order)
        found = _fit(field, rows)
        # A longer one must also carry where the shorter one goes round.
        if found is not None and (best is None or found.right >= best.right - 0.1 / 2**best.field.length):
            best = found
    return best


def _fit(field: BitField, rows: Bytes) -> Counter | None:
    values = extract(field, rows)
    if field.length > 62:
        return None
    full = (1 << field.length) - 1
    best: Counter | None = None
    for low, high in ((0, full), (int(values.min()), int(values.max()))):
        size = high - low + 1
        steps, times = np.unique(np.diff(values) % size, return_counts=True)
        step = int(steps[times.argmax()])
        if step == 0:
            continue
        step -= size if step > size // 2 else 0
        right = float(_goes_on(values, step, low, high).mean())
        if right >= NEARLY_ALL and (best is None or right > best.right):
            best = Counter(field, step, low, high, right)
    return best
