"""The matches within one chunk, as little as says it: whole identifiers, a window of arrivals, or a bitmap.

What the index decides stays undone for the rows: a part that is made of whole identifiers knows its count, and its
share in any measure, without a single frame being read.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from keel.model.frames import Mask, Rows
from keel.store.chunk import Chunk
from keel.store.density import Density, FaultRows, density_of, fault_rows
from keel.store.summary import Summary, summarise

BLOCK_BITS = 4096
Packed = np.ndarray[tuple[int], np.dtype[np.uint8]]


@dataclass(frozen=True, eq=False)
class Part:
    """The matches of one chunk.

    Attributes:
        count: How many.
        runs: Which identifiers' frames match, shape (r,); None for all. Without meaning where there is a bitmap.
        window: The first arrival that counts and the first that does not; None for all. Likewise.
        packed: A bitmap over the stored rows, one bit a frame; None if runs and window say it all.
        known: Whether it was looked at yet; if not, the count is 0.
    """

    chunk: Chunk
    count: int
    runs: Mask | None = None
    window: tuple[int, int] | None = None
    packed: Packed | None = None
    known: bool = True

    @property
    def whole(self) -> bool:
        """Whether every frame of the chunk matches."""
        return self.count == len(self.chunk)

    @cached_property
    def ranges(self) -> tuple[Rows, Rows]:
        """The stored rows of each identifier among which the matches are: from, to; each of shape (r,).

        Without a bitmap these are the matches.
        """
        starts = self.chunk.starts
        lows, highs = starts[:-1], starts[1:]
        if self.packed is not None:
            return lows, highs
        if self.window is not None:
            cuts = np.array([_cut(self.chunk, run, self.window) for run in range(len(lows))], np.int64).reshape(-1, 2)
            lows, highs = cuts[:, 0], cuts[:, 1]
        if self.runs is not None:
            highs = np.where(self.runs, highs, lows)
        return lows, highs

    def wanted(self) -> Mask | None:
        """The bitmap over the stored rows, shape (n,), if there is one."""
        if self.packed is None:
            return None
        return np.unpackbits(self.packed, count=len(self.chunk)).view(np.bool_)

    def stored_mask(self) -> Mask | None:
        """Matches over the stored rows, shape (n,), or None for all."""
        if self.whole:
            return None
        wanted = self.wanted()
        if wanted is not None:
            return wanted
        change = np.zeros(len(self.chunk) + 1, np.int8)
        lows, highs = self.ranges
        np.add.at(change, lows, 1)
        np.add.at(change, highs, -1)
        return np.cumsum(change[:-1], dtype=np.int8).view(np.bool_)

    def each_run(self) -> list[tuple[int, Rows | slice]]:
        """For each identifier that matches its key and its rows: a slice, or an array where there are holes."""
        lows, highs = self.ranges
        wanted = self.wanted()
        found: list[tuple[int, Rows | slice]] = []
        for key, low, high in zip(self.chunk.keys.tolist(), lows.tolist(), highs.tolist(), strict=True):
            if low == high:
                continue
            if wanted is None:
                found.append((key, slice(low, high)))
                continue
            rows = np.flatnonzero(wanted[low:high]) + low
            if len(rows):
                found.append((key, rows))
        return found

    @cached_property
    def summary(self) -> Summary:
        """What is known of the matches of each identifier; from the index where that says it."""
        chunk = self.chunk
        if self.packed is None and self.window is None:
            return chunk.summary if self.runs is None else chunk.summary.take(np.flatnonzero(self.runs))
        lows, highs = self.ranges
        made = summarise(chunk.batch, chunk.keys, lows, highs, self.wanted())
        return made.take(np.flatnonzero(made.frames))

    @cached_property
    def density(self) -> Density:
        """Traffic over time of the matches; from the index where that says it. There must be some."""
        if self.whole:
            return self.chunk.density
        rows = [np.arange(r.start, r.stop) if isinstance(r, slice) else r for _, r in self.each_run()]
        return density_of(self.chunk.batch, np.concatenate(rows))

    @cached_property
    def fault_rows(self) -> FaultRows:
        """Faults among the matches; from the index where that says it."""
        chunk = self.chunk
        known = chunk.fault_rows
        if self.packed is None and self.window is None:
            if self.runs is None:
                return known
            chosen = np.isin(known.key, chunk.keys[self.runs])
            return FaultRows(**{name: column[chosen] for name, column in known.arrays().items()})
        if not len(known.key):
            return known
        faulty = set(known.key.tolist())
        rows = [np.arange(r.start, r.stop) if isinstance(r, slice) else r for k, r in self.each_run() if k in faulty]
        at = np.concatenate(rows) if rows else np.zeros(0, np.int64)
        at = at[chunk.batch.faults[at] != 0]
        keys, arrivals = chunk.keys[chunk.runs_of(at)], chunk.arrival[at].astype(np.int64)
        return fault_rows(keys, chunk.batch.faults[at], arrivals, chunk.batch.time[at])

    # By arrival: what a list of frames needs.

    @cached_property
    def _lone(self) -> tuple[int, int] | None:
        """The stored rows, if they are of one identifier without holes: their arrivals ascend."""
        if self.packed is not None or self.whole:
            return None
        lows, highs = self.ranges
        runs = np.flatnonzero(highs > lows)
        return (int(lows[runs[0]]), int(highs[runs[0]])) if len(runs) == 1 else None

    @cached_property
    def _by_arrival(self) -> _Ranked:
        mask = self.stored_mask()
        assert mask is not None
        return _Ranked(mask[self.chunk.order])

    def rows(self, start: int, stop: int) -> Rows:
        """Arrivals within the chunk of matches ``start`` to ``stop``."""
        stop = min(stop, self.count)
        if self.whole:
            return np.arange(start, stop, dtype=np.int64)
        if self.packed is None and self.runs is None and self.window is not None:
            return np.arange(self.window[0] + start, self.window[0] + stop, dtype=np.int64)
        if self._lone is not None:
            low = self._lone[0]
            return self.chunk.arrival[low + start : low + stop].astype(np.int64)
        return self._by_arrival.select(start, stop)

    def rank(self, arrival: int) -> int:
        """How many matches lie before an arrival."""
        if self.whole:
            return min(max(arrival, 0), self.count)
        if self.packed is None and self.runs is None and self.window is not None:
            return min(max(arrival - self.window[0], 0), self.count)
        if self._lone is not None:
            low, high = self._lone
            return int(np.searchsorted(self.chunk.arrival[low:high], np.uint32(max(arrival, 0))))
        return self._by_arrival.rank(arrival)


def _cut(chunk: Chunk, run: int, window: tuple[int, int]) -> tuple[int, int]:
    """The rows of a run that arrived within a window; arrivals ascend within a run."""
    low, high = int(chunk.starts[run]), int(chunk.starts[run + 1])
    arrival = chunk.arrival[low:high]
    # Of one type, or the whole column would be converted.
    start, end = np.searchsorted(arrival, np.array(window, np.uint32)).tolist()
    return low + start, low + end


class _Ranked:
    """A bitmap in order of arrival, with the count of each block, so that the n-th bit is found without a scan."""

    def __init__(self, mask: Mask) -> None:
        self._size = len(mask)
        self._packed = np.packbits(mask)
        padded = np.zeros(-(-len(mask) // BLOCK_BITS) * BLOCK_BITS, np.bool_)
        padded[: len(mask)] = mask
        counts = padded.reshape(-1, BLOCK_BITS).sum(axis=1)
        self._before = np.concatenate([[0], np.cumsum(counts)])

    def select(self, start: int, stop: int) -> Rows:
        """Places of the set bits ``start`` to ``stop``."""
        if stop <= start:
            return np.zeros(0, np.int64)
        first = int(np.searchsorted(self._before, start, side="right")) - 1
        last = int(np.searchsorted(self._before, stop - 1, side="right")) - 1
        bits = np.unpackbits(self._packed[first * BLOCK_BITS // 8 : (last + 1) * BLOCK_BITS // 8])
        found = np.flatnonzero(bits) + first * BLOCK_BITS
        base = int(self._before[first])
        return found[start - base : stop - base].astype(np.int64)

    def rank(self, place: int) -> int:
        """How many bits are set before a place."""
        place = min(max(place, 0), self._size)
        block = place // BLOCK_BITS
        bits = np.unpackbits(self._packed[block * BLOCK_BITS // 8 : -(-place // 8)])
        return int(self._before[block]) + int(bits[: place - block * BLOCK_BITS].sum())


def packed_part(chunk: Chunk, mask: Mask) -> Part:
    """The part that a mask over the stored rows says."""
    count = int(np.count_nonzero(mask))
    if count == len(chunk):
        return Part(chunk, count)
    if not count:
        return nothing(chunk)
    return Part(chunk, count, packed=np.packbits(mask))


def runs_part(chunk: Chunk, runs: Mask) -> Part:
    """The part that whole identifiers are."""
    count = int(np.diff(chunk.starts)[runs].sum())
    if count == len(chunk):
        return Part(chunk, count)
    return Part(chunk, count, runs=runs) if count else nothing(chunk)


def nothing(chunk: Chunk, known: bool = True) -> Part:
    """No match."""
    return Part(chunk, 0, window=(0, 0), known=known)


def within(part: Part, inside: tuple[int, int] | Mask) -> Part:
    """The matches of a part that lie in a window of arrivals, or in a mask over arrivals."""
    chunk = part.chunk
    if not part.known or not part.count:
        return part
    if isinstance(inside, tuple):
        if inside == (0, len(chunk)):
            return part
        if inside[0] >= inside[1]:
            return nothing(chunk)
        if part.packed is None:
            cut = Part(chunk, -1, part.runs, inside)
            lows, highs = cut.ranges if part.runs is not None else (np.array([inside[0]]), np.array([inside[1]]))
            count = int((highs - lows).sum())
            return Part(chunk, count, part.runs, inside) if count else nothing(chunk)
        arrived = chunk.arrival
        window = (arrived >= inside[0]) & (arrived < inside[1])
    else:
        window = np.zeros(len(chunk), np.bool_)
        window[chunk.order] = inside
    mask = part.stored_mask()
    return packed_part(chunk, window if mask is None else mask & window)


Prepare = Callable[[Part], Any]
