"""How long a bit of a serial line takes: by the edges inside its bytes.

A byte begins when its sender likes, so what lies between two bytes tells nothing. From the falling edge of the start
bit on, every edge of the byte lies a whole number of bits later; rising ones all by as much too late or too early as
the threshold lies off the middle.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
from numba import njit

from keel.lines.pulses import glitch_free, pieces_of, widths_of
from keel.model.waveform import Logic

Floats = npt.NDArray[np.float64]
INSIDE, BEHIND = 8.6, 9.4
"""In bits from the start: up to here an edge is the byte's own, whatever its framing; behind that another may begin."""
REACHES = (2.5, 4.5, 8.5)
"""The bit time is refined by edges so many bits from the start: those far off tell most once it is nearly known."""
NEAR, FITS, OF_A_GRAIN, MOST_OFF = 0.3, 0.25, 0.6, 0.42
"""An edge is used where it is so near a whole number of bits, and fits where it is so near in the end; where samples
are few, by such a share of their interval farther, up to so much."""
LEAST_SPREAD, MOST_SPREAD = 0.005, 0.29
FEWEST, A_CLUSTER, ALIKE = 3, 0.01, 1.25
"""Pulses of one length are no chance where there are so many, and such a share of all; they are alike within that."""
MOST_CLUSTERS, MOST_BITS, SPIKES = 4, 3, 1.6
"""So many lengths are tried as one bit, two bits, three bits: the shortest, and that of what is left without pulses up
to so many times as long."""
SAME = 0.08
GLITCH = 0.25
"""Pulses shorter than that share of a bit are none."""
LEAST_FITTING = 0.6


@dataclass(frozen=True)
class SerialClock:
    """A bit time as the edges inside bytes have it.

    Attributes:
        ns: How long a bit takes.
        spread: The standard deviation of edges from the grid, in bits.
        fits: The share of edges that lie near it.
        widths: How many different lengths, in bits, pulses inside bytes have.
    """

    ns: float
    spread: float
    fits: float
    widths: int

    @property
    def rate(self) -> float:
        """Bits per second."""
        return 1e9 / self.ns


@njit(cache=True, nogil=True)
def _inside(edges: Any, first: Any, unit: Any, away: Any, rises: Any, widths: Any) -> Any:
    """Edges inside bytes: how far from the start, whether they rise, and from the edge before; returns how many."""
    n = i = 0
    count = len(edges)
    while i < count:
        if (first ^ (i + 1)) & 1:
            i += 1
            continue
        start = edges[i]
        j = i + 1
        while j < count and edges[j] - start < INSIDE * unit:
            away[n], rises[n], widths[n] = edges[j] - start, (first ^ (j + 1)) & 1, edges[j] - edges[j - 1]
            n += 1
            j += 1
        while j < count and edges[j] - start < BEHIND * unit:
            j += 1
        i = j
    return n


def _edges_inside(parts: list[Logic], unit: float) -> tuple[Floats, Floats, Floats]:
    """What `_inside` finds in some pieces of a line: distances and widths in ns; all of shape (n,)."""
    found: list[tuple[Floats, Floats, Floats]] = []
    for part in parts:
        room = len(part.edges)
        columns = np.empty(room), np.empty(room), np.empty(room)
        n = _inside(np.ascontiguousarray(part.edges), part.first, unit, *columns)
        found.append((columns[0][:n], columns[1][:n], columns[2][:n]))
    if not found:
        return np.zeros(0), np.zeros(0), np.zeros(0)
    away, rises, widths = (np.concatenate(column) for column in zip(*found, strict=True))
    return away, rises, widths


def refined(parts: list[Logic], unit: float) -> SerialClock | None:
    """The bit time near ``unit`` that edges inside bytes have; None where there are too few.

    Args:
        parts: Pieces of a line that rests high.
        unit: About how long a bit takes, in ns.
    """
    grain = max((part.grain for part in parts), default=0.0)
    slack = OF_A_GRAIN * grain / unit
    late = 0.0
    for reach in REACHES:
        away, rises, widths = _edges_inside(parts, unit)
        bits = np.rint((away - late * rises) / unit)
        off = (away - late * rises) / unit - bits
        used = (bits >= 1) & (bits <= reach) & (np.abs(off) < min(NEAR + slack, MOST_OFF))
        if used.sum() < FEWEST:
            continue
        unit, late = _fitted(away[used], bits[used], rises[used])
    away, rises, widths = _edges_inside(parts, unit)
    if len(away) < FEWEST or unit <= 0:
        return None
    off = (away - late * rises) / unit
    off = off - np.rint(off)
    near = np.abs(off) < min(FITS + slack, MOST_OFF)
    spread = float(np.sqrt(np.mean(off[near] ** 2))) if near.any() else MOST_SPREAD
    in_bits = np.rint(widths / unit).astype(np.int64)
    numbers = np.bincount(in_bits[(in_bits > 0) & (in_bits < 10)], minlength=1)
    known = int((numbers >= max(FEWEST, A_CLUSTER * len(widths))).sum())
    return SerialClock(unit, float(np.clip(spread, LEAST_SPREAD, MOST_SPREAD)), float(near.mean()), known)


def _fitted(away: Floats, bits: Floats, rises: Floats) -> tuple[float, float]:
    """The bit time, and how late rising edges are, in ns: least squares of ``away = bits * unit + rises * late``."""
    if rises.min() == rises.max():
        # With edges of one kind alone what is late cannot be told from the bit time.
        return float((away * bits).sum() / (bits**2).sum()), 0.0
    both = np.stack([bits, rises], axis=1)
    solution = np.linalg.lstsq(both, away, rcond=None)[0]
    return float(solution[0]), float(np.clip(solution[1], -0.45 * solution[0], 0.45 * solution[0]))


def clocks(line: Logic) -> Iterator[tuple[SerialClock, Logic, int]]:
    """Bit times that a line may have, each with the line without what is too short for it, and how many kinds of short
    pulses had to be passed over to find it.

    Args:
        line: A line that rests high.
    """
    parts = pieces_of(line)
    tried: list[float] = []
    for spared in range(MOST_CLUSTERS):
        length = _shortest_low(parts, line.grain)
        if length is None:
            return
        for bits in range(1, MOST_BITS + 1):
            unit = length / bits
            if any(abs(unit / one - 1) < SAME for one in tried):
                continue
            clean = [glitch_free(part, GLITCH * unit) for part in parts]
            found = _finest(clean, unit, line.grain)
            if found is None or found.fits < LEAST_FITTING or found.ns < 2 * line.grain:
                continue
            if any(abs(found.ns / one - 1) < SAME for one in tried):
                continue
            tried.append(found.ns)
            yield found, glitch_free(line, GLITCH * found.ns), spared
        # There may be more than a few spikes: it is looked at without what is so short.
        parts = [glitch_free(part, SPIKES * length) for part in parts]


def _finest(parts: list[Logic], unit: float, grain: float) -> SerialClock | None:
    """The bit time near ``unit``; where pulses are measured too coarsely to tell, the one that edges fit best."""
    stretches = STRETCHES if grain > COARSE * unit else (1.0,)
    found = [one for stretch in stretches if (one := refined(parts, unit * stretch)) is not None]
    return min(found, key=lambda one: (-round(one.fits, 1), one.spread), default=None)


STRETCHES, COARSE = (1.0, 1.08, 1.16, 1.25, 0.92, 0.84), 0.1
"""Where an interval of samples is such a part of a bit, the bit may be so much longer than the shortest pulses are."""


def clock_near(line: Logic, unit: float) -> SerialClock | None:
    """The bit time near one that was given, as edges inside bytes have it; None where they do not tell."""
    parts = [glitch_free(part, GLITCH * unit) for part in pieces_of(line)]
    return refined(parts, unit)


def _shortest_low(parts: list[Logic], grain: float) -> float | None:
    """The length of the shortest low pulses that are no mere chance, in ns; None if there are none."""
    ordered = np.sort(widths_of(parts)[0])
    need = max(FEWEST, int(A_CLUSTER * len(ordered)))
    if len(ordered) < need:
        return None
    # Two pulses of one length are measured as different by up to an interval of samples either way.
    ends = np.searchsorted(ordered, ordered * ALIKE + grain, side="right")
    dense = np.flatnonzero(ends - np.arange(len(ordered)) >= need)
    if not len(dense):
        return None
    at = int(dense[0])
    return float(np.median(ordered[at : ends[at]]))
