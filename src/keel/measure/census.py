"""The census: every identifier once, with its count, cycle time, changes and newest payload.

Tallies are made per chunk and merged, so that a growing recording costs only what was added.
Cycle times are differences between consecutive frames of one identifier that carry no fault.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from math import sqrt

import numpy as np

from keel.ask.matches import Matches, Part
from keel.model.frames import Bytes, Times
from keel.model.span import Span
from keel.model.units import NS_PER_S
from keel.store.chunk import Chunk

SHOWN_BYTES = 64
"""Freshness is kept for so many bytes of a payload; what lies beyond is not shown byte by byte."""


@dataclass
class Spread:
    """Running count, mean, and sum of squared deviations of cycle times in ns, mergeable without loss."""

    count: int = 0
    mean: float = 0.0
    squares: float = 0.0
    least: int = 0
    most: int = 0

    @classmethod
    def of(cls, steps: Times) -> Spread:
        """The spread of some cycle times."""
        if not len(steps):
            return cls()
        mean = float(steps.mean())
        squares = float(np.square(steps - mean).sum())
        return cls(len(steps), mean, squares, int(steps.min()), int(steps.max()))

    def merged(self, other: Spread) -> Spread:
        """The spread of both together. Source: Chan, Golub and LeVeque, 1979 (pairwise update)."""
        if not self.count or not other.count:
            return self if self.count else other
        count = self.count + other.count
        delta = other.mean - self.mean
        return Spread(
            count,
            self.mean + delta * other.count / count,
            self.squares + other.squares + delta * delta * self.count * other.count / count,
            min(self.least, other.least),
            max(self.most, other.most),
        )

    @property
    def deviation(self) -> float:
        """Standard deviation (of the population) in ns."""
        return sqrt(self.squares / self.count) if self.count else 0.0


@dataclass
class Tally:
    """One identifier's part in a stretch of frames. Times in ns.

    Attributes:
        first, last: Times of the first and last frame.
        good_first, good_last: As above, of frames without fault; None if there was none.
        changes: How often the payload differed from the one before.
        changed_at: For each payload byte when it last changed, 0 for never.
        fault_counts: How many frames carry each fault, by bit.
    """

    key: int
    frames: int
    first: int
    last: int
    good_first: int | None = None
    good_last: int | None = None
    cycle: Spread = field(default_factory=Spread)
    changes: int = 0
    faults: int = 0
    fault_counts: dict[int, int] = field(default_factory=dict)
    first_payload: bytes = b""
    payload: bytes = b""
    flags: int = 0
    changed_at: Times = field(default_factory=lambda: np.zeros(SHOWN_BYTES, np.int64))

    def merged(self, later: Tally) -> Tally:
        """The tally of this stretch and a later one together."""
        cycle = self.cycle.merged(later.cycle)
        changes = self.changes + later.changes
        changed_at = np.maximum(self.changed_at, later.changed_at)
        if self.good_last is not None and later.good_first is not None:
            cycle = cycle.merged(Spread.of(np.array([later.good_first - self.good_last], np.int64)))
            if self.payload != later.first_payload:
                changes += 1
                fresh = changed_bytes(self.payload, later.first_payload)
                changed_at[fresh] = np.maximum(changed_at[fresh], later.good_first)
        counts = dict(self.fault_counts)
        for bit, count in later.fault_counts.items():
            counts[bit] = counts.get(bit, 0) + count
        has_good = later.good_last is not None
        return Tally(
            self.key,
            self.frames + later.frames,
            min(self.first, later.first),
            max(self.last, later.last),
            self.good_first if self.good_first is not None else later.good_first,
            later.good_last if has_good else self.good_last,
            cycle,
            changes,
            self.faults + later.faults,
            counts,
            self.first_payload if self.good_first is not None else later.first_payload,
            later.payload if has_good else self.payload,
            later.flags if has_good else self.flags,
            changed_at,
        )


def changed_bytes(a: bytes, b: bytes) -> np.ndarray[tuple[int], np.dtype[np.int64]]:
    """Places where two payloads differ, of the first `SHOWN_BYTES`."""
    size = min(max(len(a), len(b)), SHOWN_BYTES)
    places = [i for i in range(size) if a[i : i + 1] != b[i : i + 1]]
    return np.array(places, np.int64)


def tally_part(part: Part) -> dict[int, Tally]:
    """The tallies of the matching frames of one chunk, by key."""
    chunk = part.chunk
    stored = part.stored_mask()
    tallies: dict[int, Tally] = {}
    starts = chunk.run_starts
    for run, key in enumerate(chunk.run_keys.tolist()):
        low, high = int(starts[run]), int(starts[run + 1])
        rows = np.arange(low, high) if stored is None else np.flatnonzero(stored[low:high]) + low
        if len(rows):
            tallies[key] = _tally(chunk, key, rows)
    return tallies


def _tally(chunk: Chunk, key: int, rows: np.ndarray[tuple[int], np.dtype[np.int64]]) -> Tally:
    batch = chunk.batch
    times, faults = batch.time[rows], batch.faults[rows]
    tally = Tally(key, len(rows), int(times.min()), int(times.max()))
    faulty = faults != 0
    tally.faults = int(np.count_nonzero(faulty))
    good = rows
    if tally.faults:
        good = rows[~faulty]
        for bit in range(32):
            count = int(np.count_nonzero(faults & np.uint32(1 << bit)))
            if count:
                tally.fault_counts[1 << bit] = count
    if not len(good):
        return tally
    good_times = batch.time[good]
    tally.good_first, tally.good_last = int(good_times[0]), int(good_times[-1])
    tally.cycle = Spread.of(np.diff(good_times))
    tally.first_payload, tally.payload = batch.payload(int(good[0])), batch.payload(int(good[-1]))
    tally.flags = int(batch.flags[good[-1]])
    tally.changes, tally.changed_at = _changes(chunk, good, good_times)
    return tally


def _changes(chunk: Chunk, rows: np.ndarray[tuple[int], np.dtype[np.int64]], times: Times) -> tuple[int, Times]:
    batch = chunk.batch
    starts, ends = batch.offsets[rows].astype(np.int64), batch.offsets[rows + 1].astype(np.int64)
    lengths = ends - starts
    changed_at = np.zeros(SHOWN_BYTES, np.int64)
    width = int(lengths.max())
    if len(rows) < 2 or not width:
        return int((np.diff(lengths) != 0).sum()), changed_at
    if int(lengths.min()) == width and rows[-1] - rows[0] == len(rows) - 1:
        payloads: Bytes = batch.data[starts[0] : ends[-1]].reshape(-1, width)
    else:
        at = starts[:, None] + np.arange(width)
        present = at < ends[:, None]
        payloads = np.where(present, batch.data[np.minimum(at, len(batch.data) - 1)], np.uint8(0))
    moved = payloads[1:] != payloads[:-1]
    differs = moved.any(axis=1) | (np.diff(lengths) != 0)
    shown = moved[:, :SHOWN_BYTES]
    latest = len(shown) - 1 - np.argmax(shown[::-1], axis=0)
    ever = shown.any(axis=0)
    changed_at[: shown.shape[1]] = np.where(ever, times[1:][latest], 0)
    return int(np.count_nonzero(differs)), changed_at


def merge_all(tallies: Iterable[dict[int, Tally]]) -> dict[int, Tally]:
    """Tallies of stretches that follow one another, as one."""
    merged: dict[int, Tally] = {}
    for stretch in tallies:
        for key, tally in stretch.items():
            merged[key] = merged[key].merged(tally) if key in merged else tally
    return merged


class Census:
    """The census of growing matches: what was counted for a closed chunk is kept."""

    def __init__(self) -> None:
        self._prefix: tuple[tuple[tuple[int, int, int, int], ...], dict[int, Tally]] = ((), {})

    def take(self, matches: Matches) -> dict[int, Tally]:
        """The tallies of all matching frames, by key in ascending order."""
        parts = [p for p in matches.parts if p.count]
        names = tuple((p.chunk.serial, p.count, p.low, p.high) for p in parts)
        known, merged = self._prefix
        if not known or names[: len(known)] != known:
            known, merged = (), {}
        for name, part in zip(names[len(known) : -1], parts[len(known) : -1], strict=True):
            merged = merge_all([merged, tally_part(part)])
            known = (*known, name)
        self._prefix = (known, merged)
        newest = tally_part(parts[-1]) if parts else {}
        return dict(sorted(merge_all([merged, newest]).items()))


def seconds(ns: float) -> float:
    """Nanoseconds as seconds."""
    return ns / NS_PER_S


def activity(matches: Matches, start: int, end: int, cells: int) -> dict[int, Times]:
    """Frames of each key in ``cells`` equal stretches of a span, by key. Times are searched, not counted."""
    edges = Span(start, end).edges(cells)
    counts: dict[int, Times] = {}
    for part in matches.parts:
        chunk = part.chunk
        if not part.count or chunk.span.end < start or chunk.span.start > end:
            continue
        stored = part.stored_mask()
        for run, key in enumerate(chunk.run_keys.tolist()):
            low, high = int(chunk.run_starts[run]), int(chunk.run_starts[run + 1])
            times = chunk.batch.time[low:high]
            if stored is not None:
                times = times[stored[low:high]]
            if not chunk.ordered:
                times = np.sort(times)
            if len(times):
                found = np.diff(np.searchsorted(times, edges))
                counts[key] = counts[key] + found if key in counts else found
    return counts
