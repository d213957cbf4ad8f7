"""What follows the marks? Fields that change when a person did something, and at no other time.

Every payload bit is looked at: in how many of the marked spans did it change, and how much of all its changing
lies in them. Bits that follow are joined to fields, in whichever byte order makes a number of them: the bits of
a number flip less often the more significant they are.

Whether anything follows at all is tested by moving the marks: they are shifted in time, round the recording,
a few hundred times, and each time the best bit is looked for just the same. Only what follows the true marks
better than nearly every best of these counts. A recording of thousands of bits always holds one that fits
somehow; this says how well such a one fits by chance.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from keel.ask.matches import Matches
from keel.hunt.columns import Column, flips, gather
from keel.hunt.fields import join_bits, read_as_number
from keel.hunt.structure import counter_bits
from keel.model.fields import BitField, extract
from keel.model.frames import Bytes, Rows, Times
from keel.model.span import Span
from keel.model.units import NS_PER_S

BIN_NS = 50_000_000
MOST_BINS = 24_000
EARLY_NS = 200_000_000
LATE_NS = 700_000_000
"""A change counts as within a span so much before its start and after its end: people press late and let go early."""
SHIFTS = 499
LIKELY_CHANCE = 0.01
"""Above this probability that nothing follows, no candidate is named."""
FEWEST_HIT = 0.5
"""A field that changed in fewer of the spans than this is not named."""
MOST_CANDIDATES = 12
LEAST_SCORE = 0.35
SLOW_COSTS = 0.4
"""What a field loses that first changes only at the end of the spans: what a hand does shows at once."""
PARTLY_INSIDE = 0.5
"""Low bits of a number may go on flipping for a while; so much of their changing must still lie in the spans."""
FEWEST_INSIDE = 0.9
"""A bit belongs to a field that follows only if so much of its changing lies in the spans."""

Floats = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Candidate:
    """A field that may carry it. ``delay_s`` is the median time from a span's start to its first change."""

    key: int
    field: BitField
    score: float
    why: str
    spans_hit: int
    delay_s: float


@dataclass(frozen=True)
class Findings:
    """What a hunt found.

    Attributes:
        evidence: What was looked for, in words.
        nothing_probability: How often a best fit as good as the one found comes about by chance.
        candidates: Best first; empty when chance explains it all.
    """

    evidence: str
    nothing_probability: float
    candidates: tuple[Candidate, ...]
    spans: tuple[Span, ...]
    identifiers: int
    bits: int

    @property
    def verdict(self) -> str:
        """One sentence."""
        if not self.spans:
            return "there are no marks in the lens to follow"
        if self.candidates:
            return f"{len(self.candidates)} fields follow; chance alone: {self.nothing_probability:.1%}"
        return f"nothing follows the marks (as good a fit comes by chance {self.nothing_probability:.0%} of the time)"


def follow_marks(matches: Matches, spans: list[Span], cancelled: Callable[[], bool] = lambda: False) -> Findings:
    """Fields that change within the spans and not outside.

    Args:
        matches: The frames to search.
        spans: When something was done.
        cancelled: Looked at now and then; when true the search ends with what it has.

    Returns:
        The candidates, best first, and how likely it is that nothing follows.
    """
    columns = gather(matches)
    spans = sorted(spans)
    evidence = f"{len(spans)} marked span{'s' if len(spans) != 1 else ''}"
    times = [c.times for c in columns.values() if len(c.times) > 1]
    if not spans or not times:
        return Findings(evidence, 1.0, (), tuple(spans), len(columns), 0)
    edges = _edges(min(int(t.min()) for t in times), max(int(t.max()) for t in times))
    spans = [s for s in spans if s.end + LATE_NS > edges[0] and s.start - EARLY_NS < edges[-1]]
    if not spans:
        return Findings(evidence + ", none where there are frames", 1.0, (), (), len(columns), 0)
    changed = {key: flips(column, edges) for key, column in columns.items()}
    for key, column in columns.items():
        # A slow counter bit may well flip in step with somebody's hands; it is none of their doing.
        changed[key][counter_bits(column.payloads)] = 0
    if cancelled():
        return Findings(evidence, 1.0, (), tuple(spans), len(columns), 0)
    table = np.concatenate([_with_neighbours(c) for c in changed.values()])
    table = table[table.any(axis=1)]
    bins = _bins(spans, edges)
    shifts = _shifts(bins, len(edges) - 1)
    chance = _chance(table, bins, shifts, cancelled=cancelled)
    bits = sum(len(c) for c in changed.values())
    found: list[Candidate] = []
    if chance <= LIKELY_CHANCE:
        for key, column in columns.items():
            if cancelled():
                break
            found += _fields(column, changed[key], spans, bins, shifts)
    found = [c for c in found if c.score >= LEAST_SCORE]
    found.sort(key=lambda c: (-round(c.score, 3), -c.field.length))
    return Findings(evidence, chance, tuple(found[:MOST_CANDIDATES]), tuple(spans), len(columns), bits)


def _with_neighbours(changed: Bytes) -> Bytes:
    """Each bit, each pair and each half byte: a switch of several states may move another bit each time."""
    pairs = changed[0::2] | changed[1::2]
    return np.concatenate([changed, pairs, pairs[0::2] | pairs[1::2]])


def _edges(start: int, end: int) -> Times:
    count = int(min(max((end - start) // BIN_NS, 8), MOST_BINS))
    return Span(start, end + 1).edges(count)


def _bins(spans: list[Span], edges: Times) -> Rows:
    """First and last + 1 bin of each span, with its margins; shape (spans, 2)."""
    last = len(edges) - 1
    found = []
    for span in spans:
        low = int(np.searchsorted(edges, span.start - EARLY_NS, side="right")) - 1
        high = int(np.searchsorted(edges, span.end + LATE_NS))
        found.append((min(max(low, 0), last - 1), min(max(high, low + 1, 1), last)))
    return np.array(found, np.int64)


def scores(table: Bytes, bins: Rows, shift: int = 0) -> tuple[Floats, Floats, Floats]:
    """How well each row of ``table`` (bits, bins) follows the spans moved on by ``shift`` bins, round the end.

    Returns:
        Score 0 to 1, share of spans with a change, share of changes that lie in spans; each shape (bits,).
    """
    return _scores(_running(table), bins, shift)


def _running(table: Bytes) -> npt.NDArray[np.int32]:
    sums = np.zeros((table.shape[0], table.shape[1] + 1), np.int32)
    np.cumsum(table, axis=1, out=sums[:, 1:])
    return sums


def _scores(sums: Any, bins: Rows, shift: int) -> tuple[Floats, Floats, Floats]:
    size = sums.shape[1] - 1
    total = sums[:, -1].astype(np.float64)
    low, high = (bins[:, 0] + shift) % size, (bins[:, 1] - 1 + shift) % size + 1
    inside = sums[:, high] - sums[:, low]
    inside = inside + np.where(high < low, sums[:, -1:], 0)
    hit = (inside > 0).mean(axis=1)
    covered = min(_covered(bins), size - 1) / size
    # Overlapping spans would count a change twice.
    within = np.minimum(inside.sum(axis=1), total)
    share = np.divide(within, total, out=np.zeros_like(total), where=total > 0)
    beyond_chance = np.clip((share - covered) / (1 - covered), 0, 1)
    # One change alone proves little; more of them, all in the right place, prove more.
    weight = within / (within + 1)
    return hit * beyond_chance * weight, hit, share


def _covered(bins: Rows) -> int:
    covered, end = 0, -1
    for low, high in sorted(bins.tolist()):
        covered += max(high - max(low, end), 0)
        end = max(end, high)
    return covered


def _shifts(bins: Rows, size: int) -> Rows:
    """By how much the marks are moved to see what chance does, in bins."""
    # A shift of less than a span leaves much of the truth in place.
    least = int(min(np.ceil((bins[:, 1] - bins[:, 0]).mean()), size // 4)) + 1
    possible = np.arange(least, size - least)
    return np.random.default_rng(20).choice(possible, min(SHIFTS, len(possible)), replace=False)


def _chance(
    table: Bytes,
    bins: Rows,
    shifts: Rows,
    give_up: float = 1.0,
    cancelled: Callable[[], bool] = lambda: False,
) -> float:
    """How often the best row of ``table`` does as well with the marks shifted; 1 if nothing changed in the spans.

    Counting ends where the answer is sure to be over ``give_up``, or when it is cancelled.
    """
    if not len(table):
        return 1.0
    sums = _running(table)
    best = float(_scores(sums, bins, 0)[0].max())
    if best <= 0:
        return 1.0
    as_good = 1
    for shift in shifts.tolist():
        as_good += float(_scores(sums, bins, shift)[0].max()) >= best - 1e-12
        if as_good > give_up * (1 + len(shifts)) or cancelled():
            return 1.0
    return as_good / (1 + len(shifts))


def _fields(column: Column, changed: Bytes, spans: list[Span], bins: Rows, shifts: Rows) -> list[Candidate]:
    if not changed.any():
        return []
    _, _, share = scores(changed, bins)
    counts = changed.sum(axis=1)
    follows = (share >= FEWEST_INSIDE) & (counts > 0)
    moved = column.payloads[1:] ^ column.payloads[:-1]
    flip_counts = np.unpackbits(moved, axis=1, bitorder="little").sum(axis=0, dtype=np.int64)
    found = []
    for field in join_bits(follows, (share >= PARTLY_INSIDE) & (counts > 0), flip_counts, column.payloads):
        together = np.max(changed[list(field.bits)], axis=0, keepdims=True)
        score, hit, inside = (float(x[0]) for x in scores(together, bins))
        if hit < FEWEST_HIT or _chance(together, bins, shifts, LIKELY_CHANCE) > LIKELY_CHANCE:
            continue
        field = read_as_number(field, column.payloads)
        hits = round(hit * len(spans))
        delay = _delay(column, field, spans)
        usual_s = float(np.median([span.seconds for span in spans])) or 1.0
        score *= 1 - SLOW_COSTS * min(max(delay / usual_s, 0.0), 1.0)
        where = "and nowhere else" if inside > 0.999 else f"({inside:.0%} of its changes)"
        why = f"in {hits} of {len(spans)} spans {where}, {_when(delay)}"
        found.append(Candidate(column.key, field, round(score, 4), why, hits, delay))
    return found


def _delay(column: Column, field: BitField, spans: list[Span]) -> float:
    values = field_values(column, field)
    moments = column.times[1:][np.diff(values) != 0]
    delays = []
    for span in spans:
        at = int(np.searchsorted(moments, span.start - EARLY_NS))
        if at < len(moments) and moments[at] < span.end + LATE_NS:
            delays.append((int(moments[at]) - span.start) / NS_PER_S)
    return float(np.median(delays)) if delays else 0.0


def _when(delay: float) -> str:
    return f"{delay:.2f} s after their start" if delay >= 0 else f"{-delay:.2f} s before"


def field_values(column: Column, field: BitField) -> npt.NDArray[np.int64]:
    """The field's raw values in a column."""
    return extract(field, column.payloads)
