"""The census: every identifier once, with its count, cycle time, changes and newest payload.

It is made by joining what is known of each chunk (`keel.store.summary`), so that a recording of any length costs
as much as it has chunks. Cycle times are differences between consecutive good frames of one identifier: without
fault, and no remote requests.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from math import sqrt

import numpy as np

from keel.ask.matches import Matches
from keel.ask.parts import Part
from keel.measure.joining import Joined, join
from keel.measure.percentiles import Bins
from keel.model.frames import FrameBatch, Times
from keel.model.identity import Keys
from keel.model.span import Span
from keel.model.units import NS_PER_S

__all__ = ["Activity", "Census", "Spread", "Tally", "activity", "census_of", "seconds"]


PAYLOAD_BYTES = 1 << 14
"""So much of the newest payload is kept at hand."""


@dataclass(frozen=True)
class Spread:
    """Cycle times of one identifier in ns: how many, mean, standard deviation (of the population), extremes."""

    count: int
    mean: float
    deviation: float
    least: int
    most: int


@dataclass(frozen=True, eq=False)
class Tally:
    """One identifier's part in a stretch of frames: a row of the census. Times in ns."""

    key: int
    row: int
    joined: Joined

    def _of(self, name: str) -> int:
        return int(getattr(self.joined, name)[self.row])

    @property
    def frames(self) -> int:
        """How many frames, faulty ones too."""
        return self._of("frames")

    @property
    def first(self) -> int:
        """The least time."""
        return self._of("first")

    @property
    def last(self) -> int:
        """The greatest time."""
        return self._of("last")

    @property
    def good_last(self) -> int:
        """Time of the last frame without fault, `NEVER` without any."""
        return self._of("good_last")

    @property
    def good(self) -> int:
        """How many frames carry no fault and are no remote requests."""
        return self._of("good")

    @property
    def back(self) -> int:
        """How often the clock was set back between two of them."""
        return self._of("back")

    @property
    def changes(self) -> int:
        """How often the payload differed from the one before."""
        return self._of("changes")

    @property
    def faults(self) -> int:
        """How many frames carry a fault."""
        return self._of("faulty")

    @property
    def flags(self) -> int:
        """The flags of the last frame without fault."""
        return self._of("flags")

    @cached_property
    def cycle(self) -> Spread:
        """Its cycle times."""
        joined, row = self.joined, self.row
        count = int(joined.steps[row])
        if not count:
            return Spread(0, 0.0, 0.0, 0, 0)
        deviation = sqrt(max(float(joined.squares[row]), 0.0) / count)
        return Spread(count, float(joined.mean[row]), deviation, self._of("least"), self._of("most"))

    @cached_property
    def payload(self) -> bytes:
        """The newest payload of a frame without fault; of a long one its first `PAYLOAD_BYTES`."""
        newest = self.newest
        return newest.payload(0, PAYLOAD_BYTES) if newest is not None else b""

    @property
    def size(self) -> int:
        """How long the newest payload is."""
        newest = self.newest
        return int(newest.lengths[0]) if newest is not None else 0

    @property
    def newest(self) -> FrameBatch | None:
        """The newest frame without fault, as a batch of one; None if there is none."""
        place, row = int(self.joined.last_part[self.row]), int(self.joined.last_row[self.row])
        return self.joined.parts[place].chunk.batch.slice(row, row + 1) if row >= 0 else None

    @property
    def changed_at(self) -> Times:
        """For each payload byte shown when it last changed, 0 for never."""
        at: Times = self.joined.changed_at[self.row]
        return at

    def bins(self) -> Bins:
        """Its cycle times in bins."""
        return self.joined.bins_of(self.row)


class Census(Mapping[int, Tally]):
    """Tallies by key, in ascending order of keys."""

    def __init__(self, joined: Joined) -> None:
        self.joined = joined
        self._rows = {key: row for row, key in enumerate(joined.keys.tolist())}
        self._made: dict[int, Tally] = {}

    def __getitem__(self, key: int) -> Tally:
        if key not in self._made:
            self._made[key] = Tally(key, self._rows[key], self.joined)
        return self._made[key]

    def __iter__(self) -> Iterator[int]:
        return iter(self._rows)

    def __len__(self) -> int:
        return len(self._rows)

    def __contains__(self, key: object) -> bool:
        return key in self._rows


def census_of(matches: Matches) -> Census:
    """The census of the matching frames."""
    return Census(join([part for part in matches.parts if part.count]))


def seconds(ns: float) -> float:
    """Nanoseconds as seconds."""
    return ns / NS_PER_S


class Activity(Mapping[int, Times]):
    """Frames of each identifier in equal stretches of a span, by key."""

    def __init__(self, keys: Keys, counts: Times) -> None:
        """Keys, ascending, shape (n,); counts, shape (n, cells)."""
        self.keys_there, self.counts = keys, counts

    def _place(self, key: object) -> int:
        place = int(np.searchsorted(self.keys_there, np.uint64(key))) if isinstance(key, int) else len(self.counts)
        return place if place < len(self.counts) and int(self.keys_there[place]) == key else -1

    def __getitem__(self, key: int) -> Times:
        place = self._place(key)
        if place < 0:
            raise KeyError(key)
        counts: Times = self.counts[place]
        return counts

    def __contains__(self, key: object) -> bool:
        return self._place(key) >= 0

    def __iter__(self) -> Iterator[int]:
        return iter(self.keys_there.tolist())

    def __len__(self) -> int:
        return len(self.keys_there)


FEW = 512
"""Of so few identifiers in a chunk times are searched, not counted."""


def activity(matches: Matches, start: int, end: int, cells: int) -> Activity:
    """Frames of each key in ``cells`` equal stretches of a span, by key."""
    edges = Span(start, end).edges(cells)
    found: list[tuple[Keys, Times]] = []
    for part in matches.parts:
        span = part.chunk.span
        if not part.count or span.end < start or span.start > end:
            continue
        low, high = (int(np.searchsorted(edges, t, side="right")) - 1 for t in (span.start, span.end))
        if low == high and 0 <= low < cells:
            summary = part.summary
            counts = np.zeros((len(summary), cells), np.int64)
            counts[:, low] = summary.frames
            found.append((summary.keys, counts))
        else:
            found.append(_searched(part, edges) if len(part.chunk.keys) <= FEW else _counted(part, edges))
    if not found:
        return Activity(np.zeros(0, np.uint64), np.zeros((0, cells), np.int64))
    keys, places = np.unique(np.concatenate([keys for keys, _ in found]), return_inverse=True)
    total, at = np.zeros((len(keys), cells), np.int64), 0
    for mine, counts in found:
        # A key is in a part once.
        total[places[at : at + len(mine)]] += counts
        at += len(mine)
    return Activity(keys, total)


def _searched(part: Part, edges: Times) -> tuple[Keys, Times]:
    """Counts of a part by searching each identifier's times."""
    keys, counts = [], []
    for key, rows in part.each_run():
        times = part.chunk.batch.time[rows]
        if not part.chunk.ordered:
            times = np.sort(times)
        keys.append(key)
        counts.append(np.diff(np.searchsorted(times, edges)))
    return np.array(keys, np.uint64), np.array(counts, np.int64).reshape(len(keys), len(edges) - 1)


def _counted(part: Part, edges: Times) -> tuple[Keys, Times]:
    """Counts of a part by looking at each frame."""
    chunk, cells = part.chunk, len(edges) - 1
    runs = np.repeat(np.arange(len(chunk.keys)), np.diff(chunk.starts))
    cell = np.searchsorted(edges, chunk.batch.time, side="right") - 1
    inside = (chunk.batch.time >= edges[0]) & (chunk.batch.time < edges[-1])
    wanted = part.stored_mask()
    rows = np.flatnonzero(inside if wanted is None else inside & wanted)
    counts = np.bincount(runs[rows] * cells + cell[rows], minlength=len(chunk.keys) * cells)
    return chunk.keys, counts.reshape(len(chunk.keys), cells)
