"""A chunk: some hundred thousand frames that lie together, clustered by key.

Rows are *stored* clustered by bus and identifier, in order of arrival within one: whatever is asked about one
identifier is then a slice. ``order`` says which stored row arrived first, second, and so on.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from itertools import count
from typing import Any

import numpy as np

from keel.model.frames import FrameBatch, Mask, Rows, Times
from keel.model.identity import Keys
from keel.model.span import Span

NEVER = np.iinfo(np.int64).min
"""A time before everything: there was no frame before."""

_serial = count()


@dataclass(frozen=True, eq=False)
class Chunk:
    """Frames clustered by key; immutable.

    Attributes:
        batch: The stored rows.
        order: Stored row of each frame in order of arrival, shape (n,).
        run_keys: The keys present, ascending, shape (r,).
        run_starts: Where each key's rows begin, shape (r + 1,).
        before: Time of the frame of the same key before each run, or `NEVER`; shape (r,).
        time_before: Time of the frame that arrived before the first, or `NEVER`.
        first: Number of the first frame in the recording.
        ordered: Whether times never step back in order of arrival.
    """

    batch: FrameBatch
    order: Rows
    run_keys: Keys
    run_starts: Rows
    before: Times
    time_before: int
    first: int
    ordered: bool
    span: Span
    serial: int = field(default_factory=lambda: next(_serial))

    def __len__(self) -> int:
        return len(self.order)

    @cached_property
    def run_of_row(self) -> Rows:
        """Which run each stored row belongs to, shape (n,)."""
        return np.repeat(np.arange(len(self.run_keys)), np.diff(self.run_starts))

    def arrivals(self, start: int, stop: int) -> FrameBatch:
        """Frames ``start`` to ``stop`` in order of arrival, counted within the chunk."""
        return self.batch.take(self.order[start:stop])

    def arrival_times(self) -> Times:
        """Times in order of arrival, shape (n,)."""
        times: Times = self.batch.time[self.order]
        return times

    def since_same_key(self, rows: Rows) -> Times:
        """Nanoseconds since the frame of the same key before each stored row, -1 where there was none."""
        runs = np.searchsorted(self.run_starts, rows, side="right") - 1
        at_start = self.run_starts[runs] == rows
        earlier = np.where(at_start, self.before[runs], self.batch.time[np.maximum(rows - 1, 0)])
        return np.where(earlier == NEVER, -1, self.batch.time[rows] - earlier)

    def in_span(self, span: Span | None) -> tuple[int, int] | Mask:
        """Which frames, in order of arrival, lie in a span: a range, or a mask if times step back."""
        if span is None or (span.start <= self.span.start and self.span.end < span.end):
            return 0, len(self)
        if span.end <= self.span.start or self.span.end < span.start:
            return 0, 0
        if self.ordered:
            return self._search(span.start), self._search(span.end)
        times = self.arrival_times()
        mask: Mask = (times >= span.start) & (times < span.end)
        return mask

    def _search(self, time: int) -> int:
        """The first arrival at or after ``time``, by bisection: a handful of rows are touched, not all."""
        low, high = 0, len(self)
        while low < high:
            middle = (low + high) // 2
            if self.batch.time[self.order[middle]] < time:
                low = middle + 1
            else:
                high = middle
        return low


def cluster(batch: FrameBatch) -> tuple[FrameBatch, Rows, Keys, Rows]:
    """Cluster a batch that is in order of arrival.

    Returns:
        The stored batch, the order of arrival, the keys present and where each begins.
    """
    keys = batch.keys()
    stored = np.argsort(keys, kind="stable")
    order = np.empty(len(batch), np.int64)
    order[stored] = np.arange(len(batch))
    run_keys, counts = np.unique(keys, return_counts=True)
    return batch.take(stored), order, run_keys, np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)


def runs_of(batch: FrameBatch) -> tuple[Keys, Rows]:
    """Keys and run starts of a batch that is clustered already."""
    keys = batch.keys()
    starts = np.concatenate([[0], np.flatnonzero(np.diff(keys)) + 1, [len(keys)]]).astype(np.int64)
    return keys[starts[:-1]], starts


class Carry:
    """What the frames before a chunk leave behind for it: the last time of each key and of all."""

    def __init__(self) -> None:
        self.times: dict[int, int] = {}
        self.last: int = NEVER
        self.rows = 0

    def copy(self) -> Carry:
        """An independent copy."""
        new = Carry()
        new.times, new.last, new.rows = dict(self.times), self.last, self.rows
        return new

    def chunk(self, batch: FrameBatch, order: Rows, run_keys: Keys, run_starts: Rows) -> Chunk:
        """The chunk that follows, for rows clustered already; does not advance."""
        known = self.times
        before = np.array([known.get(int(k), NEVER) for k in run_keys], np.int64)
        times = batch.time
        ordered = bool((np.diff(times[order]) >= 0).all())
        low, high = int(times.min()), int(times.max())
        return Chunk(batch, order, run_keys, run_starts, before, self.last, self.rows, ordered, Span(low, high))

    def advance(self, chunk: Chunk) -> None:
        """Take the chunk's frames as gone by."""
        lasts: Any = chunk.batch.time[chunk.run_starts[1:] - 1]
        self.times.update(zip(chunk.run_keys.tolist(), lasts.tolist(), strict=True))
        self.last = int(chunk.batch.time[chunk.order[-1]])
        self.rows += len(chunk)
