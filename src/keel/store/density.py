"""How much traffic there is over time, and which faults: what the tape, the load and the fault list are made from.

Bits on the wire are summed as bits, at the arbitration and at the data rate, so that a bit rate corrected later
corrects the load.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, fields
from typing import Any

import numpy as np
import numpy.typing as npt

from keel.model.accelerated import accelerated
from keel.model.frames import FrameBatch, Rows, Times
from keel.model.identity import Keys

GRID_NS = 100_000_000
"""The finest grid; a chunk that lasts long has one coarser by a power of two."""
MOST_BINS = 1024
Counts = npt.NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Density:
    """Traffic of a chunk per bus and stretch of ``width`` ns, where there is any; the arrays have shape (cells,).

    Attributes:
        first: The number of the first stretch: it begins at ``first * width`` ns.
        bus, place: Which bus's cell it is, and which stretch, counted from ``first``.
    """

    width: int
    first: int
    bus: npt.NDArray[np.uint8]
    place: npt.NDArray[np.uint32]
    frames: Counts
    bits: Counts
    fast_bits: Counts
    faults: Counts


COLUMNS = ("bus", "place", "frames", "bits", "fast_bits", "faults")
"""The columns of a density."""


def density_of(batch: FrameBatch, rows: Rows | None = None) -> Density:
    """The density of some frames in any order: all of a batch, or those rows of it."""
    columns: tuple[Any, ...] = (batch.time, batch.bus, batch.bits, batch.fast_bits, batch.faults)
    time, bus, bits, fast_bits, faulty_ones = (column if rows is None else column[rows] for column in columns)
    low, high = int(time.min()), int(time.max())
    width = GRID_NS
    while high // width - low // width >= MOST_BINS:
        width *= 2
    first = low // width
    size = high // width - first + 1
    counts = tallied(time, bus, bits, fast_bits, faulty_ones, (width, first, size))
    there = np.flatnonzero(counts[0])
    return Density(width, first, (there // size).astype(np.uint8), (there % size).astype(np.uint32), *counts[:, there])


@accelerated("keel.store.tallying")
def tallied(time: Times, bus: Any, bits: Any, fast_bits: Any, faults: Any, grid: tuple[int, int, int]) -> Counts:
    """What the frames of each bus and stretch of time add up to: frames, bits, fast bits, frames with a fault.

    Args:
        time, bus, bits, fast_bits, faults: Of each frame.
        grid: The length of a stretch in ns, the number of the first, and how many there are.

    Returns:
        Counts of shape (4, buses × stretches).
    """
    width, first, size = grid
    cells = (int(bus.max()) + 1) * size
    place = bus.astype(np.int64) * size + (time // width - first)
    parts = (None, bits, fast_bits, faults != 0)
    return np.array([np.bincount(place, weights, minlength=cells).astype(np.int64) for weights in parts])


def from_dense(width: int, first: int, columns: Mapping[str, Any]) -> Density:
    """The density that older indexes hold, each column of shape (buses, stretches)."""
    bus, place = np.nonzero(columns["frames"])
    counts = (columns[name][bus, place].astype(np.int64) for name in COLUMNS[2:])
    return Density(width, first, bus.astype(np.uint8), place.astype(np.uint32), *counts)


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
