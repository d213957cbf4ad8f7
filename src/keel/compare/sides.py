"""The two sides of a comparison, and how their times are laid over each other."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal

import numpy as np

from keel.ask.language import parse
from keel.ask.matches import Matcher, Matches
from keel.ask.scene import scene_of
from keel.errors import AskError
from keel.hunt.columns import Column, gather
from keel.measure.census import Census, census_of
from keel.model.frames import Rows
from keel.model.span import Span
from keel.model.units import NS_PER_S
from keel.store.recording import Snapshot

AlignBy = Literal["start", "mark", "traffic"]
CELLS = 4096
LEAST_CELL_NS = 20_000_000
SELDOM = 0.2
"""A bit that flips in a smaller share of its frames says when something happened."""
REGULAR = 0.2
"""Times from flip to flip that vary by a smaller share are regular."""
CLEAR = 6.0
"""So many standard deviations the best fit must stand out by."""
MOST_FRAMES = 50_000


@dataclass(frozen=True, eq=False)
class Side:
    """One side: a recording, the span of it that counts, and what the ask leaves.

    Attributes:
        problem: Why the ask could not be put to it: a name it does not know.
    """

    snapshot: Snapshot
    span: Span
    matches: Matches
    problem: str = ""

    @classmethod
    def of(cls, snapshot: Snapshot, ask: str = "", span: Span | None = None) -> Side:
        """A side; a span of None is all of it. An ask that means nothing here leaves nothing."""
        scene = scene_of(snapshot)
        problem = ""
        try:
            node = parse(ask, scene)
        except AskError as error:
            problem = str(error)
            node = parse(ask)
        return cls(snapshot, span or snapshot.span, Matcher(node, scene).run(snapshot, span), problem)

    @cached_property
    def census(self) -> Census:
        """Who talks."""
        return census_of(self.matches)

    @cached_property
    def columns(self) -> dict[int, Column]:
        """Payloads by key, thinned where there are many."""
        return gather(self.matches, most=MOST_FRAMES)

    @property
    def name(self) -> str:
        """The recording's name."""
        return self.snapshot.manifest.name

    def bus(self, key: int) -> str:
        """The name of a key's bus."""
        return self.snapshot.manifest.buses[key >> 56].name

    def key_here(self, key: int, there: Side) -> int | None:
        """The key by which a key of the other side is known here: buses go by their names."""
        names = self.snapshot.manifest.bus_names
        bus = there.bus(key)
        return None if bus not in names else names.index(bus) << 56 | key & (1 << 56) - 1


@dataclass(frozen=True)
class Alignment:
    """How times go over each other: time in A = time in B + ``offset_ns``. ``words`` say how it was found."""

    by: AlignBy
    offset_ns: int
    words: str


def align(a: Side, b: Side, by: AlignBy = "start") -> Alignment:
    """Lay the second side over the first.

    By start; by the first mark of the same number; or by the best fit of what moves in the traffic. Where the other
    two say nothing, by start, and the words say so.
    """
    start = Alignment("start", a.span.start - b.span.start, "by their starts")
    if by == "mark":
        theirs = {m.number: m.time for m in b.snapshot.manifest.marks}
        for mark in sorted(a.snapshot.manifest.marks, key=lambda m: m.number):
            if mark.number in theirs:
                return Alignment("mark", mark.time - theirs[mark.number], f"by mark {mark.number}")
        return replace(start, words="by their starts: they have no mark of the same number")
    if by == "traffic":
        found = _best_fit(a, b)
        if found is None:
            return replace(start, words="by their starts: nothing in the traffic fits clearly")
        return found
    return start


def _best_fit(a: Side, b: Side) -> Alignment | None:
    """The shift at which seldom flipping bits flip together, if one stands out."""
    longest = max(a.span.end - a.span.start, b.span.end - b.span.start)
    cell = max(longest // CELLS, LEAST_CELL_NS)
    size = 1 << int(np.ceil(np.log2(2 * longest / cell + 2)))
    total = np.zeros(size)
    for key, theirs in b.columns.items():
        here = a.key_here(key, b)
        ours = a.columns.get(here) if here is not None else None
        if ours is None or ours.payloads.shape[1] != theirs.payloads.shape[1]:
            continue
        one, other = (_activity(c, s.span.start, cell, size) for c, s in ((ours, a), (theirs, b)))
        if one is None or other is None:
            continue
        total += np.fft.irfft(np.fft.rfft(one) * np.conj(np.fft.rfft(other)), size)
    deviation = float(total.std())
    best = int(total.argmax())
    if not deviation or (total[best] - total.mean()) / deviation < CLEAR:
        return None
    shift = (best if best < size // 2 else best - size) * cell
    seconds = shift / NS_PER_S
    words = f"by their traffic: B begins {abs(seconds):.2f} s {'later' if seconds >= 0 else 'earlier'} in what happens"
    return Alignment("traffic", a.span.start + int(shift) - b.span.start, words)


def _is_regular(places: Rows) -> bool:
    steps = np.diff(places)
    return len(steps) > 3 and float(steps.std()) < REGULAR * float(steps.mean())


def _activity(column: Column, start: int, cell: int, size: int) -> np.ndarray[tuple[int], np.dtype[np.float64]] | None:
    """How many seldom flipping bits flip in each stretch of time, centred and of length one."""
    if len(column.times) < 10:
        return None
    moved = np.unpackbits(column.payloads[1:] ^ column.payloads[:-1], axis=1)
    share = moved.mean(axis=0)
    chosen = np.flatnonzero((share > 0) & (share < SELDOM))
    # What flips like a clock, as a counter's bits do, fits itself everywhere.
    chosen = chosen[[not _is_regular(np.flatnonzero(moved[:, bit])) for bit in chosen.tolist()]]
    if not len(chosen):
        return None
    place = (column.times[1:] - start) // cell
    counts = np.bincount(place.clip(0, size - 1), moved[:, chosen].sum(axis=1), size)[:size]
    counts = np.sqrt(counts)
    used = int(place.max()) + 1
    counts[:used] -= counts[:used].mean()
    length = float(np.sqrt((counts**2).sum()))
    return counts / length if length else None
