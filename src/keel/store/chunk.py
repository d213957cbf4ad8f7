"""A chunk: up to a million frames that lie together, clustered by key.

Rows are *stored* clustered by bus and identifier, in order of arrival within one: whatever is asked about one
identifier is then a slice. ``order`` says which stored row arrived first, second, and so on; ``arrival`` is the
inverse: when each stored row arrived.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from itertools import count

import numpy as np
import numpy.typing as npt

from keel.model.frames import FrameBatch, Mask, Rows, Times
from keel.model.identity import Keys
from keel.model.span import Span
from keel.store.density import Density, FaultRows, density_of, fault_rows
from keel.store.headers import HeaderBounds, header_bounds
from keel.store.summary import NEVER, Summary, summarise

_serial = count()
Numbers = npt.NDArray[np.uint32]


@dataclass(frozen=True, eq=False)
class Clustered:
    """Frames clustered by key.

    Attributes:
        batch: The stored rows.
        order: Stored row of each frame in order of arrival, shape (n,).
        arrival: When each stored row arrived, shape (n,).
        keys: The keys present, ascending, shape (r,).
        starts: Where each key's rows begin, shape (r + 1,).
        as_came: Times in order of arrival, if they are at hand; shape (n,).
    """

    batch: FrameBatch
    order: Numbers
    arrival: Numbers
    keys: Keys
    starts: Rows
    as_came: Times | None = None


def cluster(batch: FrameBatch) -> Clustered:
    """Cluster a batch that is in order of arrival."""
    keys = batch.keys()
    arrival = np.argsort(keys, kind="stable")
    order = np.empty(len(batch), np.uint32)
    order[arrival] = np.arange(len(batch), dtype=np.uint32)
    run_keys, counts = np.unique(keys, return_counts=True)
    starts = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    return Clustered(batch.take(arrival), order, arrival.astype(np.uint32), run_keys, starts)


class Carry:
    """What the frames before a chunk leave behind for it: the last time of each key and of all."""

    def __init__(self) -> None:
        self.times: dict[int, int] = {}
        self.last: int = NEVER

    def copy(self) -> Carry:
        """An independent copy."""
        new = Carry()
        new.times, new.last = dict(self.times), self.last
        return new

    def before(self, keys: Keys) -> Times:
        """The last time of each key, `NEVER` where there is none."""
        known = self.times
        return np.array([known.get(k, NEVER) for k in keys.tolist()], np.int64)

    def advance(self, keys: Keys, lasts: Times, last: int) -> None:
        """Take frames as gone by: the time of the last of each key, and of the last that arrived."""
        self.times.update(zip(keys.tolist(), lasts.tolist(), strict=True))
        self.last = last


class Chunk:
    """Frames clustered by key; does not change.

    Attributes:
        first: Number of the first frame in the recording.
        rows: How many frames.
        span: From the least to the greatest time, both included.
    """

    def __init__(self, held: Clustered, carry: Carry, first: int) -> None:
        self.serial = next(_serial)
        self.first, self.rows = first, len(held.batch)
        self.span = Span(int(held.batch.time.min()), int(held.batch.time.max()))
        self._held, self._carry = held, (carry.before(held.keys), carry.last)

    def __len__(self) -> int:
        return self.rows

    @property
    def batch(self) -> FrameBatch:
        """The stored rows."""
        return self._held.batch

    @property
    def order(self) -> Numbers:
        """Stored row of each frame in order of arrival, shape (n,)."""
        return self._held.order

    @property
    def arrival(self) -> Numbers:
        """When each stored row arrived, counted within the chunk; ascends within a key. Shape (n,)."""
        return self._held.arrival

    @property
    def keys(self) -> Keys:
        """The keys present, ascending, shape (r,)."""
        return self._held.keys

    @property
    def starts(self) -> Rows:
        """Where each key's rows begin, shape (r + 1,)."""
        return self._held.starts

    @property
    def before(self) -> Times:
        """Time of the frame of the same key before each key's first, or `NEVER`; shape (r,)."""
        return self._carry[0]

    @property
    def time_before(self) -> int:
        """Time of the frame that arrived before the first, or `NEVER`."""
        return self._carry[1]

    @cached_property
    def ordered(self) -> bool:
        """Whether times never step back in order of arrival."""
        return bool((np.diff(self.arrival_times()) >= 0).all())

    @cached_property
    def summary(self) -> Summary:
        """What is known of each key's frames."""
        return summarise(self.batch, self.keys, self.starts[:-1], self.starts[1:])

    @cached_property
    def header_bounds(self) -> HeaderBounds | None:
        """The least and the greatest of what headers say; None if no frame has one."""
        return header_bounds(self.batch, self.keys, self.starts)

    @cached_property
    def density(self) -> Density:
        """Traffic over time."""
        return density_of(self.batch)

    @cached_property
    def fault_rows(self) -> FaultRows:
        """Faults by key and class."""
        rows = np.flatnonzero(self.batch.faults)
        keys = self.keys[self.runs_of(rows)]
        return fault_rows(keys, self.batch.faults[rows], self.arrival[rows].astype(np.int64), self.batch.time[rows])

    def advance(self, carry: Carry) -> None:
        """Take the chunk's frames as gone by."""
        lasts = self.batch.time[self.starts[1:] - 1]
        carry.advance(self.keys, lasts, int(self.batch.time[self.order[-1]]))

    def runs_of(self, rows: Rows) -> Rows:
        """Which run each stored row belongs to."""
        return np.searchsorted(self.starts, rows, side="right") - 1

    def arrivals(self, start: int, stop: int) -> FrameBatch:
        """Frames ``start`` to ``stop`` in order of arrival, counted within the chunk."""
        return self.batch.take(self.order[start:stop])

    def arrival_times(self) -> Times:
        """Times in order of arrival, shape (n,)."""
        times: Times = self.batch.time[self.order]
        return times

    def since_same_key(self, rows: Rows) -> Times:
        """Nanoseconds since the frame of the same key before each stored row, -1 where there was none."""
        runs = self.runs_of(rows)
        at_start = self.starts[runs] == rows
        earlier = np.where(at_start, self.before[runs], self.batch.time[np.maximum(rows - 1, 0)])
        return np.where(earlier == NEVER, -1, self.batch.time[rows] - earlier)

    def in_span(self, span: Span | None) -> tuple[int, int] | Mask:
        """Which frames, in order of arrival, lie in a span: a range, or a mask if times step back."""
        if span is None or (span.start <= self.span.start and self.span.end < span.end):
            return 0, len(self)
        if span.end <= self.span.start or self.span.end < span.start:
            return 0, 0
        if self.ordered:
            return self.first_at(span.start), self.first_at(span.end)
        times = self.arrival_times()
        mask: Mask = (times >= span.start) & (times < span.end)
        return mask

    def first_at(self, time: int) -> int:
        """The first arrival at or after ``time``, by bisection: a handful of rows are touched, not all."""
        low, high = 0, len(self)
        while low < high:
            middle = (low + high) // 2
            if self.batch.time[self.order[middle]] < time:
                low = middle + 1
            else:
                high = middle
        return low
