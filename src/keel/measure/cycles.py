"""How steadily each identifier is sent: nominal cycle time, spread, longest gap, who is late and who stopped."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from keel.ask.matches import Matches
from keel.measure.census import Spread, Tally
from keel.measure.joining import Joined
from keel.measure.percentiles import Bins
from keel.model.frames import Rows, Times
from keel.model.span import Span
from keel.model.units import NS_PER_S

FEWEST = 4
"""With fewer frames than this nothing is said about a cycle."""
LATE_FACTOR = 1.5
"""A cycle longer than so many nominal ones is late."""
GAP_FACTOR = 3.0
"""A gap of more than so many usual cycles counts as dropping out."""
SILENT_CYCLES, SILENT_NS = 5.0, 2 * NS_PER_S
STATES = ("stopped", "dropped out", "late", "in bursts", "irregular", "steady", "too few")
ROUND_STEPS = (10, 12, 15, 20, 25, 30, 40, 50, 60, 80, 100)
"""Cycle times that engineers choose, and these times any power of ten."""


@dataclass(frozen=True)
class Cycle:
    """How one identifier is sent. Times in ns.

    Attributes:
        nominal: The cycle time it seems meant to have, or the one the user named; then ``named``.
        usual: The median cycle time.
        p95, p99: What so many of a hundred cycles do not exceed.
        gap: The longest time between two frames, or since the last.
        gap_at: When that gap began.
        late: How many cycles are longer than `LATE_FACTOR` nominal ones.
        gaps: How many gaps are longer than `GAP_FACTOR` usual cycles.
        state: One of `STATES`.
        began: When the first frame was, if what is looked at begins long before; else None.
        counts: Histogram of cycle times over ``low`` to ``high``.
    """

    key: int
    nominal: int
    named: bool
    usual: int
    mean: float
    deviation: float
    p95: float
    p99: float
    gap: int
    gap_at: int
    late: int
    gaps: int
    state: str
    low: float
    high: float
    counts: Rows
    began: int | None = None

    @property
    def worth_a_look(self) -> int:
        """Sort key: what is wrong first."""
        return STATES.index(self.state)

    def in_cells(self, cells: int) -> Rows:
        """The histogram in as many cells as there is room for: all, or pairs of them."""
        return self.counts if cells >= len(self.counts) else self.counts.reshape(-1, 2).sum(axis=1)


def nominal_of(usual: float) -> int:
    """The round cycle time within 3 % of a usual one, or that itself."""
    if usual <= 0:
        return 0
    power = 10.0 ** np.floor(np.log10(usual) - 1)
    best = min((step * power for step in ROUND_STEPS), key=lambda value: abs(value - usual))
    return round(best if abs(best - usual) <= 0.03 * usual else usual)


def times_of(matches: Matches, key: int) -> Times:
    """Times of the good frames of one identifier among the matches, in order of arrival: no faults, no requests."""
    found = []
    for part in matches.parts:
        chunk = part.chunk
        run = int(np.searchsorted(chunk.keys, np.uint64(key))) if part.count else 0
        if not part.count or run == len(chunk.keys) or int(chunk.keys[run]) != key:
            continue
        lows, highs = part.ranges
        low, high = int(lows[run]), int(highs[run])
        use = chunk.batch.slice(low, high).passed_over() == 0
        wanted = part.wanted()
        if wanted is not None:
            use &= wanted[low:high]
        found.append(chunk.batch.time[low:high][use])
    return np.concatenate(found) if found else np.zeros(0, np.int64)


def describe(key: int, times: Times, end: int, bins: int = 18, nominal: int = 0) -> Cycle:
    """How one identifier is sent, from the times of its frames; see `describe_tally`."""
    between = np.diff(times)
    ahead = between >= 0
    steps = between[ahead]
    if not len(steps):
        return _describe(
            key, Spread(0, 0.0, 0.0, 0, 0), Bins.of(steps), int(times[0]), int(times[0]), end, bins, nominal
        )
    spread = Spread(len(steps), float(steps.mean()), float(steps.std()), int(steps.min()), int(steps.max()))
    longest = int(times[:-1][ahead][int(np.argmax(steps))])
    return _describe(key, spread, Bins.of(steps), longest, int(times.max()), end, bins, nominal)


def heard_in(tally: Tally, span: Span) -> Span:
    """The part of a span in which an identifier was heard: without a long silence at either end.

    A silence is long from several of its cycles on; of an identifier that came but a few times nothing is known.
    """
    cycle = tally.cycle
    if cycle.count < FEWEST - 1:
        return span
    long = max(SILENT_CYCLES * cycle.mean, 2.0 * cycle.most, SILENT_NS)
    start = tally.first if tally.first - span.start > long else span.start
    end = tally.last + round(cycle.mean) if span.end - tally.last >= long else span.end
    return Span(start, end)


def heard(joined: Joined, span: Span) -> tuple[Times, Times]:
    """As `heard_in`, of all identifiers of a census: where each part begins and ends."""
    starts, ends = np.full(len(joined.keys), span.start), np.full(len(joined.keys), span.end)
    long = np.maximum(np.maximum(SILENT_CYCLES * joined.mean, 2.0 * joined.most), SILENT_NS)
    enough = joined.steps >= FEWEST - 1
    late, early = enough & (joined.first - span.start > long), enough & (span.end - joined.last >= long)
    starts = np.where(late, joined.first, starts)
    return starts, np.where(early, joined.last + np.rint(joined.mean).astype(np.int64), ends)


def describe_tally(tally: Tally, end: int, bins: int = 18, nominal: int = 0, start: int | None = None) -> Cycle:
    """How one identifier is sent.

    Args:
        tally: Its row of a census.
        end: The end of what is looked at: silence up to there counts.
        bins: Cells of the histogram.
        nominal: The nominal cycle time the user named, in ns; 0 to infer it.
        start: The beginning of what is looked at, to tell what began later.
    """
    spread = tally.cycle
    at = int(tally.joined.most_at[tally.row]) if spread.count else tally.last
    # Where the clock was set back, what came last has not the latest time.
    last = tally.last if tally.back else max(tally.good_last, tally.first)
    cycle = _describe(tally.key, spread, tally.bins(), at, last, end, bins, nominal)
    heard = heard_in(tally, Span(start, end)) if start is not None else None
    return replace(cycle, began=heard.start) if heard is not None and heard.start != start else cycle


def _describe(key: int, spread: Spread, bins: Bins, most_at: int, last: int, end: int, cells: int, named: int) -> Cycle:
    usual = round(bins.percentile(0.5))
    nominal = named or nominal_of(usual)
    if spread.count + 1 < FEWEST:
        nothing = np.zeros(cells, np.int64)
        even, gap = float(usual), spread.most
        return Cycle(
            key, nominal, bool(named), usual, even, 0.0, even, even, gap, most_at, 0, 0, "too few", 0, 0, nothing
        )
    bound = max(GAP_FACTOR * usual, usual + 20_000_000)
    gaps = bins.longer_than(bound)
    gap, gap_at = spread.most, most_at
    silence = end - last
    p95, p99 = bins.percentile(0.95), bins.percentile(0.99)
    rests = bins.longer_than(3 * usual)
    bursty = rests >= 3 and 0.04 < rests / spread.count < 0.5
    # Only of one that keeps time can it be said that a frame is late.
    keeps_time = bins.percentile(0.9) < 1.3 * nominal
    late = bins.longer_than(max(LATE_FACTOR * nominal, nominal + 1_000_000)) if keeps_time else 0
    if silence > max(bound, 2 * gap, 500_000_000):
        state, gap, gap_at = "stopped", silence, last
    elif bursty:
        state = "in bursts"
    elif gaps:
        state = "dropped out"
    elif late:
        state = "late"
    elif spread.deviation > 0.35 * usual:
        state = "irregular"
    else:
        state = "steady"
    low, high = _histogram_range(bins, usual)
    counts = bins.histogram(low, high, cells)
    mean, deviation = spread.mean, spread.deviation
    return Cycle(
        key, nominal, bool(named), usual, mean, deviation, p95, p99, gap, gap_at, late, gaps, state, low, high, counts
    )


def _histogram_range(bins: Bins, usual: int) -> tuple[float, float]:
    """From half to one and a half usual cycles, or closer where the spread is small; outliers fall at the ends."""
    spread = 1.5 * max(bins.percentile(0.98) - usual, usual - bins.percentile(0.02))
    half = min(max(spread, usual * 0.02, 1000.0), usual * 0.5 or 1000.0)
    return usual - half, usual + half
