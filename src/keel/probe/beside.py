"""Two lines side by side, before and after something: the same frames, how much later, what was lost, which margins."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from keel.model.frames import FrameBatch, Rows, Times
from keel.model.prints import prints_of
from keel.model.units import length_words
from keel.probe.aligning import offset_between
from keel.probe.margins import Margin, Margins, margins_of
from keel.store.recording import Snapshot

WITHIN_NS = 50_000_000
"""A frame is the same as one that lies no farther from where it should be."""
LEAST_SPREAD_NS, SPREADS = 2_000_000, 20
"""And comes as late as the others do: by so much, or so many times what is usual, it may differ."""
Progress = Callable[[int, int], None]


@dataclass(frozen=True, eq=False)
class Side:
    """One of the two: its recording, and frames of one line."""

    snapshot: Snapshot
    frames: FrameBatch


@dataclass(frozen=True)
class Delay:
    """By how much frames are later on the second line, in ns; ``at`` is when the worst was, on the first."""

    least: int
    mean: float
    most: int
    at: int


@dataclass(frozen=True)
class Pair:
    """What is measured on both: the rows of either, None where it is measured on one alone."""

    what: str
    unit: str
    a: Margin | None
    b: Margin | None

    @property
    def change(self) -> float | None:
        """By how much the second margin is larger; None where either is not known."""
        if self.a is None or self.b is None or self.a.margin is None or self.b.margin is None:
            return None
        return self.b.margin - self.a.margin


@dataclass(frozen=True)
class Beside:
    """Two lines side by side.

    Attributes:
        same, only_a, only_b: How many good frames both have, the first alone, the second alone.
        faulty_a, faulty_b: How many have a fault.
        delay: None where no frame is on both.
        offset: What was added to the times of the first, where each is on a clock of its own; 0 on one clock.
        first_lost: When the first frame came that the second line does not have, in ns; None without any.
        rows: What is measured of both, that which became worst first.
        said: What is to be known, in sentences.
    """

    same: int
    only_a: int
    only_b: int
    faulty_a: int
    faulty_b: int
    delay: Delay | None
    offset: int
    first_lost: int | None
    rows: tuple[Pair, ...]
    said: tuple[str, ...]

    def words(self) -> list[str]:
        """What was found of the frames, in sentences."""
        frames = f"{self.same:,} frames on both, {self.only_a:,} lost, {self.only_b:,} only on the second"
        found = [f"{frames}; with a fault {self.faulty_a:,} before, {self.faulty_b:,} after"]
        if self.delay is not None:
            one = self.delay
            when = "later" if one.mean >= 0 else "earlier"
            spread = f"from {length_words(one.least)} to {length_words(one.most)}"
            own = "" if not self.offset else "on clocks of their own; apart from that "
            found.append(f"{own}{length_words(abs(one.mean))} {when}, {spread}")
        return [*found, *self.said]

    def to_rows(self) -> list[dict[str, Any]]:
        """What is measured of both, as a table has it."""
        rows = []
        for one in self.rows:
            row: dict[str, Any] = {"what": one.what, "unit": one.unit}
            for name in ("margin", "mean"):
                for which, side in (("before", one.a), ("after", one.b)):
                    row[f"{name}_{which}"] = None if side is None else getattr(side, name)
            rows.append(row)
        return rows

    def to_json(self) -> dict[str, Any]:
        """As ``keel margins --beside --json`` has it."""
        late = self.delay
        rows = [
            {
                "what": one.what, "unit": one.unit, "first": None if one.a is None else one.a.to_json(),
                "second": None if one.b is None else one.b.to_json(), "change": one.change,
            }
            for one in self.rows
        ]  # fmt: skip
        return {
            "same": self.same, "only_first": self.only_a, "only_second": self.only_b,
            "faulty": [self.faulty_a, self.faulty_b],
            "delay": None if late is None else {"min": late.least, "mean": late.mean, "max": late.most, "at": late.at},
            "offset": self.offset, "first_lost": self.first_lost, "margins": rows, "said": list(self.said),
        }  # fmt: skip


def side_by_side(a: Side, b: Side, progress: Progress = lambda *_: None) -> Beside:
    """Two lines side by side.

    Args:
        a, b: The first line and the second. What the second has before the first frame of the first and behind its last
            one is not compared.
        progress: Told how much of how much is done; what it raises gives it up.
    """
    on_one_clock = a.snapshot is b.snapshot
    good_a, good_b = _good(a.frames), _good(b.frames)
    found = 0 if on_one_clock else offset_between(good_b, good_a)
    offset = found or 0
    mine, theirs = _steady(good_a, good_b, *matched(good_a, good_b, offset))
    compared = np.zeros(len(good_b), np.bool_)
    compared[theirs] = True
    known = b.frames.take(np.flatnonzero(~b.frames.is_sound(slice(None))))
    if len(a.frames):
        low, high = int(a.frames.time[0]) + offset, int(a.frames.time[-1]) + offset
        compared |= (good_b.time >= low) & (good_b.time <= high)
        known = known.take(np.flatnonzero((known.time >= low) & (known.time <= high)))
    used = int(compared.sum())
    margins = (
        margins_of(a.snapshot, a.frames, lambda n, of: progress(n, 2 * of)),
        margins_of(b.snapshot, good_b.take(np.flatnonzero(compared)), lambda n, of: progress(of + n, 2 * of)),
    )
    lost = np.setdiff1d(np.arange(len(good_a)), mine)
    said = [f"{which}: {one}" for which, of in zip(("before", "after"), margins, strict=True) for one in of.said]
    if not on_one_clock and found is None:
        said.append("no frames tell how the two lie to each other: they are compared as if both began together")
    return Beside(
        len(mine), len(good_a) - len(mine), used - len(theirs), len(a.frames) - len(good_a), len(known),
        _delay(good_a.time[mine], good_b.time[theirs] - offset), offset,
        int(good_a.time[lost[0]]) if len(lost) else None, _pairs(*margins), tuple(said),
    )  # fmt: skip


def _good(frames: FrameBatch) -> FrameBatch:
    return frames.take(np.flatnonzero(frames.is_sound(slice(None))))


def matched(a: FrameBatch, b: FrameBatch, offset: int = 0, within: int = WITHIN_NS) -> tuple[Rows, Rows]:
    """Which frames of two are the same: those that say the same and lie nearest to each other.

    Args:
        a, b: Both in the order of their time.
        offset: What is added to the times of the first.
        within: How far apart they may lie, in ns.

    Returns:
        Rows of either, shape (n,) each.
    """
    if not len(a) or not len(b):
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    _, index = np.unique(np.concatenate([prints_of(a), prints_of(b)]), return_inverse=True)
    times = a.time + offset
    # A number for each that first says what it is, then where it lies among the times of the second.
    size = len(b) + 1
    order = np.argsort(index[len(a) :], kind="stable")
    keys = index[len(a) :][order] * size + order
    wanted = index[: len(a)] * size + np.searchsorted(b.time, times)
    place = np.searchsorted(keys, wanted)
    best, apart = np.full(len(a), -1), np.full(len(a), np.iinfo(np.int64).max)
    for step in (-1, 0):
        at = place + step
        there = (at >= 0) & (at < len(order))
        row = order[np.clip(at, 0, len(order) - 1)]
        there &= index[len(a) :][row] == index[: len(a)]
        far = np.abs(b.time[row] - times)
        nearer = there & (far <= within) & (far < apart)
        best[nearer], apart[nearer] = row[nearer], far[nearer]
    found = np.flatnonzero(best >= 0)
    # What two have in common is of the nearer one.
    found = found[np.lexsort([apart[found], best[found]])]
    _, first = np.unique(best[found], return_index=True)
    mine = np.sort(found[first])
    return mine, best[mine]


def _steady(a: FrameBatch, b: FrameBatch, mine: Rows, theirs: Rows) -> tuple[Rows, Rows]:
    """Without those that come much sooner or later than the others: they say the same, but are other ones."""
    if not len(mine):
        return mine, theirs
    later = b.time[theirs] - a.time[mine]
    off = np.abs(later - np.median(later))
    kept = off <= max(LEAST_SPREAD_NS, SPREADS * float(np.median(off)))
    return mine[kept], theirs[kept]


def _delay(a: Times, b: Times) -> Delay | None:
    if not len(a):
        return None
    later = b - a
    at = int(np.argmax(np.abs(later - np.median(later))))
    return Delay(int(later.min()), float(later.mean()), int(later.max()), int(a[at]))


def _pairs(a: Margins, b: Margins) -> tuple[Pair, ...]:
    """What is measured on both: that which became worse first, then what is on one alone."""
    mine, theirs = ({(row.what, row.unit): row for row in one.rows} for one in (a, b))
    pairs = [Pair(*key, mine.get(key), theirs.get(key)) for key in {**mine, **theirs}]

    def rank(pair: Pair) -> tuple[Any, ...]:
        change = pair.change
        return change is None, change or 0.0

    return tuple(sorted(pairs, key=rank))
