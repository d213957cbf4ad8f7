"""How much traffic there is over time, and which faults: what the tape, the load and the fault list are made from.

Bits on the wire are summed as bits, at the arbitration and at the data rate, so that a bit rate corrected later
corrects the load.
"""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import Any

import numpy as np
import numpy.typing as npt

from keel.model.frames import FrameBatch, Rows, Times
from keel.model.identity import Keys

GRID_NS = 100_000_000
"""The finest grid; a chunk that lasts long has one coarser by a power of two."""
MOST_BINS = 1024
Counts = npt.NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Density:
    """Traffic of a chunk per bus and stretch of ``width`` ns; the arrays have shape (buses, bins).

    Attributes:
        first: The number of the first bin: it begins at ``first * width`` ns.
    """

    width: int
    first: int
    frames: Counts
    bits: Counts
    fast_bits: Counts
    faults: Counts


def density_of(batch: FrameBatch, rows: Rows | None = None) -> Density:
    """The density of some frames in any order: all of a batch, or those rows of it."""
    time, bus, bits, fast_bits, faulty_ones = (
        column if rows is None else column[rows]
        for column in (batch.time, batch.bus, batch.bits, batch.fast_bits, batch.faults)
    )
    low, high = int(time.min()), int(time.max())
    width = GRID_NS
    while high // width - low // width >= MOST_BINS:
        width *= 2
    first = low // width
    size = high // width - first + 1
    buses = int(bus.max()) + 1
    place = bus.astype(np.int64) * size + (time // width - first)

    def summed(weights: Any = None) -> Counts:
        total = np.bincount(place, weights, minlength=buses * size)
        return total.astype(np.int64).reshape(buses, size)

    faulty = np.flatnonzero(faulty_ones)
    faults = np.bincount(place[faulty], minlength=buses * size).astype(np.int64).reshape(buses, size)
    return Density(width, first, summed(), summed(bits), summed(fast_bits), faults)


@dataclass(frozen=True, eq=False)
class FaultRows:
    """Faults by identifier and class, one row each; numbers are arrivals counted within the chunk, times in ns."""

    key: Keys
    fault: npt.NDArray[np.uint64]
    count: Rows
    first: Rows
    last: Rows
    first_time: Times
    last_time: Times

    def arrays(self) -> dict[str, Any]:
        """All columns by name."""
        return {f.name: getattr(self, f.name) for f in fields(self)}


def fault_rows(keys: Keys, faults: Any, arrivals: Rows, times: Times) -> FaultRows:
    """The faults of some frames.

    Args:
        keys, faults, arrivals, times: Of the faulty frames alone, in any order; shape (n,).
    """
    found: list[tuple[int, ...]] = []
    faults = np.asarray(faults)
    for bit in range(int(np.bitwise_or.reduce(faults)).bit_length() if len(faults) else 0):
        of_bit = np.flatnonzero(faults & faults.dtype.type(1 << bit))
        if not len(of_bit):
            continue
        of_bit = of_bit[np.lexsort((arrivals[of_bit], keys[of_bit]))]
        unique, starts, counts = np.unique(keys[of_bit], return_index=True, return_counts=True)
        first, last = of_bit[starts], of_bit[starts + counts - 1]
        found += zip(
            unique.tolist(),
            [1 << bit] * len(unique),
            counts.tolist(),
            arrivals[first].tolist(),
            arrivals[last].tolist(),
            times[first].tolist(),
            times[last].tolist(),
            strict=True,
        )
    columns = list(zip(*found, strict=True)) if found else [()] * 7
    kinds: tuple[Any, ...] = (np.uint64, np.uint64, *([np.int64] * 5))
    return FaultRows(*(np.array(c, k) for c, k in zip(columns, kinds, strict=True)))
