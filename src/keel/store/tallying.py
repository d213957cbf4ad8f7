"""`keel.store.density.tallied`, compiled."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from keel.model.frames import Times
from keel.store.density import Counts


@njit(cache=True, nogil=True)
def _tally(time: Any, bus: Any, bits: Any, fast_bits: Any, faults: Any, width: Any, first: Any, size: Any,
           counts: Any) -> None:  # fmt: skip
    begin, end, cell = np.int64(0), np.int64(0), np.int64(0)
    for i in range(len(time)):
        if not begin <= time[i] < end:
            # A frame is mostly in the stretch of the one before it: a division is seldom needed.
            cell = time[i] // width
            begin, end = cell * width, cell * width + width
        at = bus[i] * size + cell - first
        counts[at, 0] += 1
        counts[at, 1] += bits[i]
        counts[at, 2] += fast_bits[i]
        counts[at, 3] += faults[i] != 0


def tallied(time: Times, bus: Any, bits: Any, fast_bits: Any, faults: Any, grid: tuple[int, int, int]) -> Counts:
    """As `keel.store.density.tallied`."""
    width, first, size = grid
    counts = np.zeros(((int(bus.max()) + 1) * size, 4), np.int64)
    _tally(time, bus, bits, fast_bits, faults, width, first, size, counts)
    return counts.T
