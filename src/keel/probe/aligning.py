"""A probe and a bus that were recorded together, laid onto one clock by the frames that both have."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from keel.model.frames import FrameBatch, Times, concat, empty_batch
from keel.model.prints import Prints, prints_of
from keel.model.span import Span
from keel.store.recording import Snapshot
from keel.store.waveform_entries import LineEntry

RUNS = (1, 2, 4, 8)
"""So many frames in a row are looked for at once, until enough of them stand in one place alone on either side."""
FEWEST, A_MAJORITY = 3, 0.5
"""So many places must agree, and such a share of all that were found."""
WITHIN_NS = 20_000_000
"""Recorders say when a frame came to a few milliseconds, and clocks run apart."""
NEAR_NS = 10_000_000
ROWS_AROUND = 4_096
PIECE_ROWS = 1 << 20


@dataclass(frozen=True)
class Alignment:
    """How a probe lies on the clock of a recording.

    Attributes:
        bus: The bus it was a probe of.
        offset: What is added to its times, in ns.
        matched, of: How many of its good frames the bus has as well, and how many there are.
        apart: How far matched frames are usually apart, in ns.
        ppm: By how much the probe's clock is fast, in millionths.
    """

    bus: int
    offset: int
    matched: int
    of: int
    apart: int
    ppm: float

    def words(self, name: str) -> str:
        """In a sentence."""
        return (
            f"laid onto the clock of {name} by the frames that both have: {self.matched} of {self.of}, "
            f"usually {self.apart / 1e6:.3g} ms apart, its clock {self.ppm:+.1f} ppm"
        )


def align(snapshot: Snapshot, probe: FrameBatch) -> Alignment | None:
    """Where a probe lies in a recording, by its frames; None where no bus has them.

    Args:
        snapshot: The recording.
        probe: The probe's frames, in the order of their time.
    """
    derived = {line.bus for line in snapshot.manifest.lines}
    probe = probe.take(np.flatnonzero(probe.is_good(slice(None))))
    found = []
    for number, bus in enumerate(snapshot.manifest.buses):
        if number in derived:
            continue
        live = frames_on(snapshot, number)
        live = live.take(np.flatnonzero(live.is_good(slice(None))))
        # A recorder that says when frames ended is compared with where the probe's end.
        late = probe.duration if bus.stamp == "end" and probe.duration is not None else np.zeros(len(probe), np.int64)
        offset = _offset(live, probe, probe.time + late)
        if offset is not None:
            found.append(_fitted(number, live, probe, probe.time + late, offset))
    return max(found, key=lambda one: one.matched, default=None)


def frames_on(snapshot: Snapshot, bus: int, span: Span | None = None) -> FrameBatch:
    """The frames of a bus, all of them or those that begin within a span."""
    parts = []
    for start in range(0, snapshot.frames, PIECE_ROWS):
        rows = snapshot.rows(start, start + PIECE_ROWS)
        mine = rows.bus == bus
        if span is not None:
            mine &= (rows.time >= span.start) & (rows.time < span.end)
        parts.append(rows.take(np.flatnonzero(mine)))
    return concat([part for part in parts if len(part)] or [empty_batch()])


def offset_between(live: FrameBatch, probe: FrameBatch) -> int | None:
    """What is to be added to the times of some frames to lie on others that say the same; None if they do not tell."""
    return _offset(live, probe, probe.time)


def _offset(live: FrameBatch, probe: FrameBatch, times: Times) -> int | None:
    """What is to be added to the probe's times, about; None if frames do not tell."""
    mine, theirs = prints_of(probe), prints_of(live)
    for run in RUNS:
        a, b = _runs(mine, run), _runs(theirs, run)
        places_a, places_b = _in_both_once(a, b)
        if len(places_a) < FEWEST:
            continue
        offsets = np.sort(live.time[places_b] - times[places_a])
        together = np.searchsorted(offsets, offsets + WITHIN_NS, side="right") - np.arange(len(offsets))
        best = int(together.argmax())
        if together[best] >= max(FEWEST, A_MAJORITY * len(offsets)):
            return int(np.median(offsets[best : best + together[best]]))
    return None


def _runs(prints: Prints, run: int) -> Prints:
    """What so many frames in a row say together."""
    count = max(len(prints) - run + 1, 0)
    whole = np.zeros(count, np.uint64)
    for k in range(run):
        whole = whole * np.uint64(0xD6E8FEB86659FD93) + prints[k : k + count]
    return whole


def _in_both_once(a: Prints, b: Prints) -> tuple[Any, Any]:
    """The places of what stands in either exactly once."""

    def alone(prints: Prints) -> tuple[Prints, Any]:
        order = np.argsort(prints, kind="stable")
        ordered = prints[order]
        differs = np.concatenate([[True], ordered[1:] != ordered[:-1], [True]])
        single = differs[1:] & differs[:-1]
        return ordered[single], order[single]

    if not len(a) or not len(b):
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    (values_a, places_a), (values_b, places_b) = alone(a), alone(b)
    _, in_a, in_b = np.intersect1d(values_a, values_b, assume_unique=True, return_indices=True)
    return places_a[in_a], places_b[in_b]


def _fitted(bus: int, live: FrameBatch, probe: FrameBatch, times: Times, offset: int) -> Alignment:
    """An offset made exact by all frames that match."""
    begin, end = int(times[0]) + offset - WITHIN_NS, int(times[-1]) + offset + WITHIN_NS
    low, high = np.searchsorted(live.time, [begin, end]).tolist()
    live = live.take(np.arange(low, high))
    mine, theirs = prints_of(probe), prints_of(live)
    # What says the same stands together, in the order of time.
    known, number = np.unique(theirs, return_inverse=True)
    length = end - begin + 1
    order = np.argsort(number * length + (live.time - begin), kind="stable")
    places = (number * length + (live.time - begin))[order]
    group = np.clip(np.searchsorted(known, mine), 0, max(len(known) - 1, 0))
    wanted = group * length + (times + offset - begin)
    after = np.minimum(np.searchsorted(places, wanted), len(places) - 1)
    before = np.maximum(after - 1, 0)
    nearer = np.where(np.abs(places[before] - wanted) < np.abs(places[after] - wanted), before, after)
    apart = places[nearer] - wanted
    good = (known[group] == mine) & (np.abs(apart) <= NEAR_NS) & (number[order][nearer] == group)
    apart, when = apart[good], times[good]
    middle = int(np.median(apart)) if len(apart) else 0
    slope = 0.0
    if len(apart) > FEWEST and np.ptp(when) > 0:
        slope = -float(np.polyfit((when - when[0]) / 1e9, apart - middle, 1)[0]) / 1e3
    usual = int(np.median(np.abs(apart - middle))) if len(apart) else 0
    return Alignment(bus, offset + middle, int(good.sum()), len(probe), usual, slope)


def twin_of(snapshot: Snapshot, line: LineEntry, number: int) -> int | None:
    """The frame of a line that is the same as one of the bus it was a probe of; None where there is none.

    Args:
        snapshot: The recording.
        line: The line.
        number: The frame's number.
    """
    begin = max(number - ROWS_AROUND, 0)
    rows = snapshot.rows(begin, number + ROWS_AROUND)
    mine = number - begin
    prints = prints_of(rows)
    same = np.flatnonzero((rows.bus == line.bus) & (prints == prints[mine]))
    if not len(same):
        return None
    nearest = int(same[np.abs(rows.time[same] - rows.time[mine]).argmin()])
    return begin + nearest if abs(int(rows.time[nearest] - rows.time[mine])) <= NEAR_NS else None
