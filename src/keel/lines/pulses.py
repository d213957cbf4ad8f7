"""What the edges of a line tell of it by themselves: how long a bit takes, where it rests, when it is busy.

Every pulse lasts a whole number of bits. Where a threshold lies off the middle, pulses of one level are longer by as
much as those of the other are shorter; from one falling edge to the next there is no such error.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import numpy.typing as npt
from numba import njit

from keel.model.frames import Times
from keel.model.waveform import Logic

USUAL_RATES = (
    300, 600, 1_200, 2_400, 4_800, 9_600, 10_000, 10_400, 14_400, 19_200, 20_000, 28_800, 33_333, 38_400, 50_000,
    57_600, 83_333, 100_000, 115_200, 125_000, 230_400, 250_000, 460_800, 500_000, 800_000, 921_600, 1_000_000,
    1_500_000, 2_000_000, 3_000_000, 4_000_000, 5_000_000, 8_000_000, 10_000_000,
)  # fmt: skip
"""Bit rates that are usual on some line."""
NEAR = 0.035
MOST_PULSES, PIECES = 100_000, 40
"""So many pulses are looked at, in pieces from begin to end: more tell nothing new."""
A_CLUSTER, FEWEST = 0.01, 3
"""Pulses of about the same length are no chance where they are such a share, and so many."""
LONGEST = 12
"""Pulses of more bits say little of how long one is."""
ALIKE = 1.8
"""Shortest pulses of both levels are both one bit where they differ by less than that."""
FITS_WELL, STRETCHES = 0.85, (1.08, 1.16, 1.25, 0.92, 0.84)
"""Where fewer pulses than that fit, other lengths near the shortest are tried."""
FITS, GRAINS, MOST_FITS = 0.22, 0.6, 0.38
"""A pulse fits a bit time where it is so near a whole number of bits; and so much of a sample it may be off besides."""
LEAST_GRAINS, COARSE, MOSTLY, FEW_BITS, SOME = 1.9, 0.1, 0.3, 3.5, 0.1
"""A bit is no shorter than so many samples, which are coarse if they are such a part of it; and such a share of pulses
are no longer than `LONGEST` bits; and of these such a share no longer than a few."""
CLUSTERS, SPIKES, CLEARLY, A_STEP = 8, 1.6, 0.97, 0.15
"""So many lengths are tried for the shortest, each so many times the one before, until so many pulses fit; what is less
likely has to fit better by that."""

Floats = npt.NDArray[np.float64]


@dataclass(frozen=True)
class BitTime:
    """How long a bit takes.

    Attributes:
        ns: Nanoseconds.
        skew_ns: By how much pulses of the high level are longer than whole bits.
        fits: The share of pulses that are whole numbers of bits.
        pulses: How many pulses tell so.
    """

    ns: float
    skew_ns: float
    fits: float
    pulses: int

    @property
    def rate(self) -> float:
        """Bits per second."""
        return 1e9 / self.ns

    @property
    def nearest_rate(self) -> int | None:
        """The usual rate that is nearest, if one is near."""
        return nearest_rate(self.rate)


def nearest_rate(rate: float, usual: Sequence[int] = USUAL_RATES) -> int | None:
    """The usual rate that is nearest to a measured one, if one is near."""
    best = min(usual, key=lambda one: abs(rate / one - 1))
    return best if abs(rate / best - 1) <= NEAR else None


def pieces_of(logic: Logic) -> list[Logic]:
    """The known stretches of a line; of a long one some pieces from its begin to its end."""
    parts = list(logic.stretches())
    if len(logic.edges) <= MOST_PULSES:
        return parts
    size = MOST_PULSES // PIECES
    begins = np.linspace(0, len(logic.edges) - size, PIECES).astype(np.int64)
    spans = [(int(logic.edges[at]), int(logic.edges[at + size - 1]) + 1) for at in begins]
    return [window(part, a, b) for a, b in spans for part in parts if part.start < b and a < part.end]


def widths_of(parts: list[Logic]) -> tuple[Floats, Floats]:
    """Lengths of pulses of the low and of the high level, in ns."""
    low: list[Floats] = []
    high: list[Floats] = []
    for part in parts:
        widths = np.diff(part.edges).astype(np.float64)
        # After the first edge the level is the other one.
        after_first = 1 - part.first
        mine, other = (high, low) if after_first else (low, high)
        mine.append(widths[0::2])
        other.append(widths[1::2])
    none = np.zeros(0)
    return (np.concatenate(low) if low else none), (np.concatenate(high) if high else none)


def periods_of(parts: list[Logic]) -> Floats:
    """Times from an edge to the next one of the same direction, in ns."""
    periods = [(part.edges[2:] - part.edges[:-2]).astype(np.float64) for part in parts]
    return np.concatenate(periods) if periods else np.zeros(0)


def bit_time(logic: Logic) -> BitTime | None:
    """How long a bit takes; None where there are too few pulses to tell."""
    parts = pieces_of(logic)
    best: BitTime | None = None
    for _ in range(CLUSTERS):
        low, high = widths_of(parts)
        if len(low) + len(high) < FEWEST:
            break
        shortest = _shortest_of_both(low, high)
        found = _around(shortest, low, high, periods_of(parts), logic.grain)
        if found is not None and (best is None or found.fits > best.fits):
            best = found
        if best is not None and best.fits >= CLEARLY:
            break
        # There may be more than a few spikes: it is looked at without what is so short.
        parts = [glitch_free(part, SPIKES * shortest) for part in parts]
    return best


def _shortest_of_both(low: Floats, high: Floats) -> float:
    """The length of the shortest pulses of either level."""
    if min(len(low), len(high)) >= FEWEST:
        # A threshold off the middle makes the shortest pulses of one level too long by what those of the other lack.
        each = _shortest(low), _shortest(high)
        if max(each) < ALIKE * min(each):
            return sum(each) / 2
    return _shortest(np.concatenate([low, high]))


def _around(shortest: float, low: Floats, high: Floats, periods: Floats, grain: float) -> BitTime | None:
    """The bit time that a length of the shortest pulses tells."""
    best: BitTime | None = None
    # What is shortest may be two or three bits where no single one stands alone.
    for bits in (1, 2, 3):
        found = _refined(shortest / bits, low, high, periods, grain)
        if found is not None and (best is None or found.fits > best.fits + A_STEP * (bits - 1)):
            best = found
    if best is None or best.fits < FITS_WELL or grain > COARSE * best.ns:
        # Where pulses are measured coarsely the shortest ones are shorter than a bit, or longer.
        for stretch in STRETCHES:
            found = _refined(shortest * stretch, low, high, periods, grain)
            if found is not None and (best is None or found.fits > best.fits):
                best = found
    return best


def _shortest(widths: Floats) -> float:
    """The length of the shortest pulses that are no glitches."""
    ordered = np.sort(widths)
    need = max(FEWEST, int(A_CLUSTER * len(ordered)))
    ends = np.searchsorted(ordered, ordered * 1.35, side="right")
    dense = np.flatnonzero(ends - np.arange(len(ordered)) >= need)
    at = int(dense[0]) if len(dense) else 0
    return float(np.median(ordered[at : ends[at]]))


def _refined(unit: float, low: Floats, high: Floats, periods: Floats, grain: float) -> BitTime | None:
    """A bit time near ``unit``, by all pulses that are not too long."""
    skew = 0.0
    for _ in range(6):
        short = periods[periods < 2 * LONGEST * unit]
        bits = np.rint(short / unit)
        good = (bits >= 2) & (np.abs(short / unit - bits) < 0.35)
        if good.sum() >= FEWEST:
            unit = float((short[good] * bits[good]).sum() / (bits[good] ** 2).sum())
        mine = high[high < LONGEST * unit]
        if len(mine):
            off = mine - np.maximum(np.rint(mine / unit), 1) * unit
            skew = float(np.median(off))
        if good.sum() < FEWEST:
            both = np.concatenate([low[low < LONGEST * unit], mine])
            bits = np.maximum(np.rint(both / unit), 1)
            unit = float((both * bits).sum() / (bits**2).sum()) if len(both) else unit
    if unit <= 0 or unit < LEAST_GRAINS * grain:
        return None
    both = np.concatenate([high[high < LONGEST * unit] - skew, low[low < LONGEST * unit] + skew])
    if not len(both):
        return None
    fits = np.abs(both / unit - np.maximum(np.rint(both / unit), 1)) < min(FITS + GRAINS * grain / unit, MOST_FITS)
    # Where most pulses are many bits long, those few that are not tell little.
    known = min(len(both) / (MOSTLY * (len(low) + len(high))), 1.0)
    # And where hardly any is as long as a bit or two, what others are multiples of is chance.
    known *= min(float((both < FEW_BITS * unit).mean()) / SOME, 1.0)
    return BitTime(unit, skew, float(fits.mean()) * known, len(both))


ALL_ALIKE, NEARLY_ALL = 0.12, 0.93
"""Lengths are all alike where such a share of them is so near to the one in the middle."""


def repeats(logic: Logic) -> bool:
    """Whether a wire does the same again and again: pulses of one length, or of one period.

    A clock, a duty cycle, a wheel, something that passes by: whatever their bits would be, they say no more than one of
    them.
    """
    parts = pieces_of(logic)
    low, high = widths_of(parts)
    periods = periods_of(parts)
    return any(_are_alike(lengths) for lengths in (low, high, periods[0::2], periods[1::2]))


def _are_alike(lengths: Floats) -> bool:
    if len(lengths) < FEWEST:
        return False
    return float((np.abs(lengths / np.median(lengths) - 1) < ALL_ALIKE).mean()) > NEARLY_ALL


def idle_level(logic: Logic) -> int:
    """The level at which it rests: that of its longest pauses, else that in which it mostly is."""
    return resting(logic)[0]


LONGEST_STAYS, LONGER, NO_BYTE = 3, 1.3, 9.5
"""Of either level the longest stay and the third longest one are compared: a break or two are longer than any pause,
but seldom. One that is so many times longer is longer; and none in a byte lasts for so many bits."""


def resting(logic: Logic) -> tuple[int, bool]:
    """The level at which a line rests, as `idle_level` has it; and whether it clearly rests there.

    A line is busy on both levels about as long, so the level held most says little: what is longer than a frame says
    where it rests. Where that is not clear, it is taken to rest as it begins and ends.
    """
    longest, totals = np.zeros((2, LONGEST_STAYS), np.int64), np.zeros(2, np.int64)
    for part in logic.stretches():
        _stays(np.ascontiguousarray(part.edges), part.start, part.end, part.first, longest, totals)
    said = [_longer(*longest[:, place].tolist()) for place in (0, LONGEST_STAYS - 1)]
    if said[0] is not None and said[1] in (said[0], None):
        return said[0], said[1] is not None and longest[said[0], -1] > NO_BYTE * _short(logic)
    if said[0] is None and said[1] is not None:
        return said[1], False
    last = logic.first ^ len(logic.edges) & 1
    if logic.first == last and len(logic.edges):
        return last, False
    return mostly_at(logic), False


def _short(logic: Logic) -> float:
    """How long a short pulse of a line is, in ns."""
    widths = np.concatenate(widths_of(pieces_of(logic)))
    return float(np.percentile(widths, 5)) if len(widths) else 0.0


def _longer(low: int, high: int) -> int | None:
    """The level of the longer of two stays; None where they are about as long."""
    if max(low, high) <= LONGER * min(low, high):
        return None
    return int(high > low)


def mostly_at(logic: Logic) -> int:
    """The level in which a line is most of the time."""
    longest, totals = np.zeros((2, LONGEST_STAYS), np.int64), np.zeros(2, np.int64)
    for part in logic.stretches():
        _stays(np.ascontiguousarray(part.edges), part.start, part.end, part.first, longest, totals)
    return int(totals[1] >= totals[0])


@njit(cache=True, nogil=True)
def _stays(edges: Any, start: Any, end: Any, first: Any, longest: Any, totals: Any) -> None:
    """The longest stays on each level, longest first, and the time on each altogether; added to what is there."""
    level = first
    before = start
    last = longest.shape[1] - 1
    for n in range(len(edges) + 1):
        now = edges[n] if n < len(edges) else end
        stay = now - before
        totals[level] += stay
        if stay > longest[level, last]:
            place = last
            while place > 0 and longest[level, place - 1] < stay:
                longest[level, place] = longest[level, place - 1]
                place -= 1
            longest[level, place] = stay
        before = now
        level = 1 - level


def glitch_free(logic: Logic, shortest_ns: float) -> Logic:
    """Without pulses that are shorter than that.

    Of several short ones in a row the shortest go first: a spike that comes close behind an edge leaves a pulse between
    them that is short, too, and it is the spike that has to go.
    """
    edges = logic.edges
    while len(edges) > 1:
        widths = np.diff(edges).astype(np.float64)
        if not (widths < shortest_ns).any():
            break
        # Of equal ones in a row every second goes: what lies between is then long enough, or goes next.
        ranks = np.concatenate([[np.inf], widths + 0.25 * (np.arange(len(widths)) & 1), [np.inf]])
        goes = (widths < shortest_ns) & (ranks[1:-1] <= ranks[:-2]) & (ranks[1:-1] < ranks[2:])
        alone = np.flatnonzero(goes)
        keep = np.ones(len(edges), np.bool_)
        keep[alone] = keep[alone + 1] = False
        edges = edges[keep]
    return replace(logic, edges=edges)


def window(logic: Logic, begin: int, end: int) -> Logic:
    """What a line does from one moment to another."""
    begin, end = max(begin, logic.start), min(end, logic.end)
    low, high = np.searchsorted(logic.edges, [begin, end]).tolist()
    unknown = tuple((max(a, begin), min(b, end)) for a, b in logic.unknown if b > begin and a < end)
    return Logic(begin, end, logic.first ^ low & 1, np.asarray(logic.edges[low:high]), unknown, logic.grain)


def head(logic: Logic, edges: int) -> Logic:
    """What a line does up to so many edges."""
    if len(logic.edges) <= edges:
        return logic
    return window(logic, logic.start, int(logic.edges[edges]))


def busy(logic: Logic, pause_ns: float) -> tuple[Times, Times]:
    """When it is busy: begins and ends of runs of edges no further apart than ``pause_ns``."""
    begins: list[Times] = []
    ends: list[Times] = []
    for part in logic.stretches():
        if len(part.edges):
            breaks = np.flatnonzero(np.diff(part.edges) > pause_ns)
            begins.append(part.edges[np.concatenate([[0], breaks + 1])])
            ends.append(part.edges[np.concatenate([breaks, [len(part.edges) - 1]])])
    none = np.zeros(0, np.int64)
    return (np.concatenate(begins) if begins else none), (np.concatenate(ends) if ends else none)


def explained(logic: Logic, starts: Times, ends: Times, pause_ns: float) -> float:
    """The share of the line's active time that good frames cover, from 0 to 1.

    Args:
        logic: The line.
        starts, ends: Begin and end of each good frame, in order, shape (n,).
        pause_ns: A pause as long as that is no activity.
    """
    begins, stops = busy(logic, pause_ns)
    active = float((stops - begins).sum())
    if active <= 0:
        return 0.0
    covered = 0.0
    if len(starts):
        place = np.searchsorted(begins, starts, side="right") - 1
        known = place >= 0
        low = np.maximum(starts[known], begins[place[known]])
        high = np.minimum(ends[known], stops[place[known]])
        covered = float(np.maximum(high - low, 0).sum())
    return min(covered / active, 1.0)
