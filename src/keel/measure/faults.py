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
    parts = [part for part in matches.parts if part.count and len(part.fault_rows.key)]
    if not parts:
        return []
    columns = {
        name: np.concatenate([getattr(p.fault_rows, name) for p in parts]) for name in parts[0].fault_rows.arrays()
    }
    base = np.repeat([p.chunk.first for p in parts], [len(p.fault_rows.key) for p in parts])
    minutes = max(length_ns / NS_PER_S / 60, 1 / 60)
    found = []
    for fault in Fault:
        at = np.flatnonzero(columns["fault"] == np.uint64(fault))
        if not len(at):
            continue
        count = columns["count"][at]
        unique, places = np.unique(columns["key"][at], return_inverse=True)
        first = at[np.argmin(base[at] + columns["first"][at])]
        last = at[np.argmax(base[at] + columns["last"][at])]
        found.append(
            FaultClass(
                fault,
                int(count.sum()),
                int(base[first] + columns["first"][first]),
                int(base[last] + columns["last"][last]),
                int(columns["first_time"][first]),
                int(columns["last_time"][last]),
                int(count.sum()) / minutes,
                int(unique[np.argmax(np.bincount(places, count))]),
            )
        )
    return sorted(found, key=lambda c: -c.count)
