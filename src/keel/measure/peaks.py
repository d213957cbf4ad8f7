"""The fullest second of each bus, wherever it begins, exactly.

Every frame has to be looked at for that, so chunks are done one after another and remembered: each needs only the
second before it.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from keel.ask.matches import WORKERS, Matches, pool
from keel.ask.parts import Part
from keel.measure.load import BusMean
from keel.model.accelerated import accelerated
from keel.model.bus import Bus, wire_ns
from keel.model.frames import Times
from keel.model.span import Span
from keel.model.units import NS_PER_S

Floats = npt.NDArray[np.float64]
Columns = tuple[Times, Any, Floats]
"""Time, bus and wire time."""


@dataclass(frozen=True)
class Peak:
    """The fullest second of one bus: its load from 0 to 1, and when it began."""

    load: float
    at: int


@dataclass(frozen=True)
class Peaks:
    """One per bus; below a ``looked`` of 1 they are the fullest so far."""

    buses: list[Peak]
    looked: float


def settled(peaks: list[Peak], means: list[BusMean], span: Span) -> list[Peak | None]:
    """The peaks as they can be said beside the means over a span: none where that is too short, and none below it.

    Over less than a second the mean is the peak; over a little more no whole second may hold as much of it.
    """
    return [
        None if mean.mean is None else peak if peak.load >= mean.mean else Peak(mean.mean, span.start)
        for peak, mean in zip(peaks, means, strict=True)
    ]


class PeakFinder:
    """Finds peaks of growing matches; what was found for a chunk is kept."""

    def __init__(self) -> None:
        self._known: dict[tuple[Any, ...], list[Peak]] = {}

    def find(self, matches: Matches, patience: Callable[[], bool] = lambda: True) -> Peaks:
        """The peaks by the matching frames; stops early when patience ends."""
        buses = matches.snapshot.manifest.buses
        parts = [part for part in matches.parts if part.count]
        about = {part: _about(parts, part) for part in parts}
        names = [((part, *about[part]), tuple(buses)) for part in parts]
        waiting = [place for place, name in enumerate(names) if name not in self._known]
        for at in range(0, len(waiting), WORKERS):
            if at and not patience():
                break
            group = waiting[at : at + WORKERS]
            made = pool.map(lambda place: _peaks_of(parts[place], about[parts[place]], buses), group)
            self._known.update(zip((names[place] for place in group), made, strict=True))
        self._known = {name: self._known[name] for name in names if name in self._known}
        best = [Peak(0.0, 0) for _ in buses]
        for found in self._known.values():
            best = [max(a, b, key=lambda p: p.load) for a, b in zip(best, found, strict=True)]
        done = sum(part.count for part, name in zip(parts, names, strict=True) if name in self._known)
        return Peaks(best, done / max(len(matches), 1) if parts else 1.0)


def _about(parts: list[Part], part: Part) -> list[Part]:
    """The other parts with frames in the seconds that end in a part: the one before, or any if times step back."""
    span = part.chunk.span
    low = span.start - NS_PER_S
    return [p for p in parts if p is not part and p.chunk.span.end > low and p.chunk.span.start <= span.end]


def _peaks_of(part: Part, about: list[Part], buses: list[Bus]) -> list[Peak]:
    """The peaks of seconds that end in a part."""
    span = part.chunk.span
    columns = [_columns(other, span.start - NS_PER_S, span.end, buses) for other in about]
    sums, begins = slide(part, columns, buses)
    return [Peak(float(s) / NS_PER_S, int(t)) for s, t in zip(sums, begins, strict=True)]


def _columns(part: Part, start: int, end: int, buses: Sequence[Bus]) -> Columns:
    """Time, bus and wire time of the matches from a time to another, both included, in order of arrival."""
    chunk = part.chunk
    batch = chunk.batch
    if chunk.ordered:
        ranks = part.rank(chunk.first_at(start)), part.rank(chunk.first_at(end + 1))
        rows = chunk.order[part.rows(*ranks)]
    else:
        rows = chunk.order[part.rows(0, part.count)]
        rows = rows[(batch.time[rows] >= start) & (batch.time[rows] <= end)]
    bus = batch.bus[rows]
    return batch.time[rows], bus, wire_ns(bus, batch.bits[rows], batch.fast_bits[rows], buses)


@accelerated("keel.measure.sliding")
def slide(part: Part, before: Sequence[Columns], buses: Sequence[Bus]) -> tuple[Floats, Times]:
    """The greatest sum of wire time within a second that ends in a part, and when that second began; per bus.

    Args:
        part: The part.
        before: Time, bus and wire time of what came in the second before it.
        buses: The buses.
    """
    span = part.chunk.span
    columns = [*before, _columns(part, span.start, span.end, buses)]
    time, bus, wire = (np.concatenate([c[i] for c in columns]) for i in range(3))
    if (time[1:] < time[:-1]).any():
        order = np.argsort(time, kind="stable")
        time, bus, wire = time[order], bus[order], wire[order]
    sums, begins = np.zeros(len(buses)), np.zeros(len(buses), np.int64)
    for index in range(len(buses)):
        of_bus = bus == index
        mine = time[of_bus]
        if not len(mine):
            continue
        total = np.concatenate([[0.0], np.cumsum(wire[of_bus])])
        in_second = total[np.searchsorted(mine, mine + NS_PER_S)] - total[:-1]
        place = int(np.argmax(in_second))
        sums[index], begins[index] = in_second[place], mine[place]
    return sums, begins
