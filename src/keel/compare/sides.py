"""The two sides of a comparison: how their times are laid over each other, and which bus is which."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal

import numpy as np

from keel.ask.language import parse
from keel.ask.matches import Matcher, Matches
from keel.ask.names import scene_of
from keel.ask.nodes import Node, Nothing
from keel.compare.buses import BusPairs, pair_buses
from keel.errors import AskError
from keel.hunt.columns import Column, gather
from keel.measure.census import Census, census_of
from keel.measure.flips import flips_by_key
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
WORTH_SAYING_NS = NS_PER_S // 10
"""A cut of less at an end is not told."""


@dataclass(frozen=True, eq=False)
class Side:
    """One side: a recording, the span of it that counts, and what the ask leaves.

    Attributes:
        matcher: Finds what the ask leaves.
        is_chosen: Whether somebody chose the span: then it is not cut to what the other side has.
        zero: What its times are counted from.
        problem: Why the ask could not be put to it: a name it does not know. Then it leaves nothing.
    """

    snapshot: Snapshot
    span: Span
    matches: Matches
    matcher: Matcher
    is_chosen: bool
    zero: int
    problem: str = ""

    @classmethod
    def of(cls, snapshot: Snapshot, ask: str = "", span: Span | None = None) -> Side:
        """A side; a span of None is all of it. An ask that means nothing here leaves nothing."""
        scene = scene_of(snapshot)
        problem = ""
        try:
            node: Node = parse(ask, scene)
        except AskError as error:
            node, problem = Nothing(), str(error)
        matcher = Matcher(node, scene)
        whole = span or snapshot.span
        return cls(snapshot, whole, matcher.run(snapshot, span), matcher, span is not None, whole.start, problem)

    def within(self, span: Span) -> Side:
        """The same over a part of its span."""
        if span == self.span:
            return self
        matches = self.matcher.run(self.snapshot, span)
        return Side(self.snapshot, span, matches, self.matcher, self.is_chosen, self.zero, self.problem)

    @cached_property
    def census(self) -> Census:
        """Who talks."""
        return census_of(self.matches)

    @cached_property
    def columns(self) -> dict[int, Column]:
        """Payloads by key, thinned where there are many."""
        return gather(self.matches, most=MOST_FRAMES)

    @cached_property
    def flips(self) -> dict[int, Rows]:
        """How often each payload bit flips, by key."""
        return flips_by_key(self.matches)

    @property
    def name(self) -> str:
        """The recording's name."""
        return self.snapshot.manifest.name

    def bus(self, key: int) -> str:
        """The name of the bus of a key of this side."""
        return self.snapshot.manifest.buses[key >> 56].name


@dataclass(frozen=True)
class Alignment:
    """How times go over each other: time in this = time in the other + ``offset_ns``; ``words`` say how it is known."""

    by: AlignBy
    offset_ns: int
    words: str


@dataclass(frozen=True, eq=False)
class Both:
    """Two sides, laid over each other; keys are those of the first side unless said otherwise."""

    a: Side
    b: Side
    alignment: Alignment
    buses: BusPairs

    @property
    def problem(self) -> str:
        """Why they cannot be compared; empty if they can."""
        for name, side in (("this", self.a), ("the other", self.b)):
            if side.problem:
                return f"the ask cannot be put to {name}: {side.problem}"
        if not len(self.a.matches) and not len(self.b.matches):
            return "neither side has a frame that meets the ask"
        return ""

    @property
    def words(self) -> tuple[str, ...]:
        """What a reader has to know besides the alignment."""
        empty = (
            f"{name} has no frame{' that meets the ask' if side.snapshot.frames else ''}"
            for name, side in (("this", self.a), ("the other", self.b))
            if not len(side.matches)
        )
        return (*self.buses.words, *empty)


def together(a: Side, b: Side, by: AlignBy = "start", given: Mapping[str, str] | None = None) -> Both:
    """Lay two sides over each other, and cut each to the time that both have, unless its span was chosen.

    Args:
        a, b: The sides.
        by: How their times go over each other.
        given: Which bus of the first is which of the second, where names do not say it.

    Raises:
        InputError: a bus that is given is not there.
    """
    buses = pair_buses(a.snapshot, b.snapshot, given)
    found = align(a, b, by, buses)
    shift = found.offset_ns
    common = Span(max(a.span.start, b.span.start + shift), min(a.span.end, b.span.end + shift))
    if a.snapshot.frames and b.snapshot.frames and common.end <= common.start:
        words = f"{found.words}: they have no time in common, and all is compared"
        return Both(a, b, replace(found, words=words), buses)
    cut_a = a if a.is_chosen or not b.snapshot.frames else a.within(common)
    cut_b = b if b.is_chosen or not a.snapshot.frames else b.within(common.shifted(-shift))
    left_out = max(a.span.length - cut_a.span.length, b.span.length - cut_b.span.length)
    if left_out >= WORTH_SAYING_NS:
        found = replace(found, words=f"{found.words}; compared over the {common.seconds:.1f} s that both have")
    return Both(cut_a, cut_b, found, buses)


def align(a: Side, b: Side, by: AlignBy = "start", buses: BusPairs | None = None) -> Alignment:
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
        found = _best_fit(a, b, buses or pair_buses(a.snapshot, b.snapshot))
        if found is None:
            return replace(start, words="by their starts: nothing in the traffic fits clearly")
        return found
    return start


def _best_fit(a: Side, b: Side, buses: BusPairs) -> Alignment | None:
    """The shift at which seldom flipping bits flip together, if one stands out."""
    longest = max(a.span.end - a.span.start, b.span.end - b.span.start, 1)
    cell = max(longest // CELLS, LEAST_CELL_NS)
    size = 1 << int(np.ceil(np.log2(2 * longest / cell + 2)))
    total = np.zeros(size)
    for key, theirs in b.columns.items():
        ours = a.columns.get(buses.to_a(key))
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
    way = "later" if seconds >= 0 else "earlier"
    words = f"by their traffic: the other begins {abs(seconds):.2f} s {way} in what happens"
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
