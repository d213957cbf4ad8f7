"""Faults by class: how many, when first and last, and on whom most."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from keel.ask.matches import Matches
from keel.model.faults import Fault
from keel.model.units import NS_PER_S


@dataclass(frozen=True)
class FaultClass:
    """One class of fault in a stretch of frames. ``first`` and ``last`` are frame numbers, times in ns."""

    fault: Fault
    count: int
    first: int
    last: int
    first_time: int
    last_time: int
    per_minute: float
    worst_key: int


def classes(matches: Matches, length_ns: int) -> list[FaultClass]:
    """The classes of fault among the matching frames, most frequent first.

    Args:
        matches: The frames to look at.
        length_ns: The length of the stretch they are from, for the rate.
    """
    numbers, times, masks, keys = [], [], [], []
    for part in matches.parts:
        if not part.count:
            continue
        chunk = part.chunk
        rows = np.flatnonzero(chunk.batch.faults)
        stored = part.stored_mask()
        if stored is not None:
            rows = rows[stored[rows]]
        if len(rows):
            arrival = np.flatnonzero(np.isin(chunk.order, rows))
            rows = chunk.order[arrival].astype(np.int64)
            numbers.append(arrival + chunk.first)
            times.append(chunk.batch.time[rows])
            masks.append(chunk.batch.faults[rows])
            keys.append(chunk.run_keys[chunk.run_of_row[rows]])
    if not numbers:
        return []
    number, time = np.concatenate(numbers), np.concatenate(times)
    mask, key = np.concatenate(masks), np.concatenate(keys)
    found = []
    for fault in Fault:
        at = np.flatnonzero(mask & np.uint32(fault))
        if not len(at):
            continue
        unique, counts = np.unique(key[at], return_counts=True)
        minutes = max(length_ns / NS_PER_S / 60, 1 / 60)
        found.append(
            FaultClass(
                fault,
                len(at),
                int(number[at[0]]),
                int(number[at[-1]]),
                int(time[at[0]]),
                int(time[at[-1]]),
                len(at) / minutes,
                int(unique[np.argmax(counts)]),
            )
        )
    return sorted(found, key=lambda c: -c.count)
