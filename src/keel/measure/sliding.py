"""`keel.measure.peaks.slide`, compiled: one pass over the frames of a part with two fingers on each bus."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numba import njit

from keel.ask.parts import Part
from keel.model.bus import Bus
from keel.model.units import NS_PER_S


@njit(cache=True, nogil=True)
def _slide(before: Any, rows: Any, time: Any, bus: Any, bits: Any, fast_bits: Any, slow_ns: Any, fast_ns: Any) -> Any:
    known_time, known_bus, known_wire = before
    buses, most = len(slow_ns), len(known_time) + len(rows)
    # Those of one bus lie together.
    starts = np.zeros(buses + 1, np.int64)
    for i in range(most):
        starts[(known_bus[i] if i < len(known_time) else bus[rows[i - len(known_time)]]) + 1] += 1
    starts = np.cumsum(starts)
    times, wires = np.empty(most, np.int64), np.empty(most)
    count, behind = starts[:-1].copy(), starts[:-1].copy()
    total, best, begins = np.zeros(buses), np.zeros(buses), np.zeros(buses, np.int64)
    for i in range(most):
        if i < len(known_time):
            now, b, wire = known_time[i], known_bus[i], known_wire[i]
        else:
            row = rows[i - len(known_time)]
            now, b = time[row], bus[row]
            wire = bits[row] * slow_ns[b] + fast_bits[row] * fast_ns[b]
        n = count[b]
        times[n], wires[n] = now, wire
        count[b] = n + 1
        sum_ = total[b] + wire
        finger = behind[b]
        while times[finger] <= now - NS_PER_S:
            sum_ -= wires[finger]
            finger += 1
        behind[b], total[b] = finger, sum_
        if sum_ > best[b]:
            best[b], begins[b] = sum_, times[finger]
    return best, begins


def slide(part: Part, before: Sequence[Any], buses: Sequence[Bus]) -> Any:
    """As `keel.measure.peaks.slide`."""
    known = (
        [np.concatenate([c[i] for c in before]) for i in range(3)]
        if before
        else [np.zeros(0, t) for t in (np.int64, np.uint8, np.float64)]
    )
    by_time = np.argsort(known[0], kind="stable")
    known = [column[by_time] for column in known]
    order = part.chunk.order
    rows = order if part.whole else order[part.rows(0, part.count)]
    batch = part.chunk.batch
    if not part.chunk.ordered:
        rows = rows[np.argsort(batch.time[rows], kind="stable")]
    slow, fast = (
        np.array([NS_PER_S / rate for rate in rates])
        for rates in zip(*((b.bit_rate, b.fast_bit_rate) for b in buses), strict=True)
    )
    return _slide(tuple(known), rows, batch.time, batch.bus, batch.bits, batch.fast_bits, slow, fast)
