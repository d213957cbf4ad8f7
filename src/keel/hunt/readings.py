"""Which field follows readings: a handful of values that a person read off a display, late and rounded.

Every field of every identifier is tried, at every lag a person may have. Whether the best of so many means
anything is told by trying the same readings in another order a number of times: what does as well then is chance.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from keel.hunt.candidates import MOST_CANDIDATES, SURELY_NOTHING, Candidate, Findings, chance_of_nothing, in_families
from keel.hunt.carriers import Carrier, constant_above, to_byte_end
from keel.hunt.fitting import robust_lines, rounding_of
from keel.hunt.points import Points
from keel.hunt.scene import Traffic
from keel.hunt.snapping import snap, ways_to_read
from keel.model.frames import Times
from keel.model.units import NS_PER_S

LAGS_S = np.arange(0.0, 1.05, 0.1)
"""A person reads off a display late, and a display shows late."""
TREND = 0.8
SPREAD_EXPECTED = 1.5
SPREAD_COST, TREND_COST = 8.0, 50.0
ABOUT_S = 0.3
"""The lag of single readings varies by about this much."""

Floats = npt.NDArray[np.float64]


SHUFFLES = 40
CONSIDERED = 40
"""So many of the best are looked at closely."""
FEWEST = 3
MOST_READINGS = 40
"""The search for misread ones goes over pairs of them; more are a series, not readings."""
LEAST_NATS, ALWAYS_SHOWN = 2.0, 3


@dataclass(frozen=True, eq=False)
class Fits:
    """The best line of every carrier: arrays of shape (carriers,), ``dropped`` as bit masks of points."""

    score: Floats
    lag_s: Floats
    scale: Floats
    offset: Floats
    spread: Floats
    dropped: npt.NDArray[np.int64]


def follow_readings(traffic: Traffic, readings: Points, cancelled: Callable[[], bool] = lambda: False) -> Findings:
    """Fields that say what a person read, and in which scale.

    Args:
        traffic: The frames, and their structure.
        readings: What was read.
        cancelled: Looked at now and then; when true the search ends with what it has.
    """
    given = len(readings.values)
    evidence = f"{given} reading{'s' if given != 1 else ''}"
    readings = readings.thinned(MOST_READINGS)
    n = len(readings.values)
    notes = traffic.notes + ((f"{n} of the {given} readings were looked at; many are a series",) if n < given else ())
    carriers = traffic.carriers
    if n < FEWEST or not carriers or len(np.unique(readings.values)) < 2:
        note = f"at least {FEWEST} readings that differ are needed"
        return Findings(evidence, 1.0, (), len(traffic.columns), len(carriers), (note,))
    raw, around = sampled(carriers, readings.times, LAGS_S)
    fits = fit_all(raw, around, readings.values, LAGS_S)
    coarse = slice(None, None, 3)
    thin, thin_around = np.ascontiguousarray(raw[:, coarse]), np.ascontiguousarray(around[:, coarse])
    chance = []
    for mixed in mixed_orders(readings.values, SHUFFLES):
        if cancelled():
            break
        chance.append(float(fit_all(thin, thin_around, mixed, LAGS_S[coarse]).score.max()))
    best = int(fits.score.argmax())
    trend = trend_of(readings.times, readings.values)
    nothing = nothing_probability(float(fits.score[best]), chance, float(fits.spread[best]), trend) if chance else 1.0
    ranked = np.argsort(-fits.score, kind="stable")[:CONSIDERED].tolist()
    found = []
    floor = rounding_of(readings.values) * 0.3
    for i in ranked:
        if fits.score[i] > 0:
            lag = int(np.flatnonzero(fits.lag_s[i] == LAGS_S)[0])
            candidate = _candidate(traffic, carriers[i], raw[i, lag], around[i, lag], readings, fits, i, floor)
            found.append((candidate, carriers[i]))
    found.sort(key=lambda pair: -pair[0].nats)
    found = [pair for i, pair in enumerate(found) if i < ALWAYS_SHOWN or pair[0].nats >= LEAST_NATS]
    if nothing > SURELY_NOTHING:
        found = []
    return Findings(
        evidence,
        nothing,
        tuple(in_families(found)[:MOST_CANDIDATES]),
        len(traffic.columns),
        len(carriers),
        notes,
    )


def _candidate(
    traffic: Traffic, carrier: Carrier, x: Floats, around: Floats, readings: Points, fits: Fits, i: int, floor: float
) -> Candidate:
    n = len(x)
    used = np.array([not int(fits.dropped[i]) >> k & 1 for k in range(n)])
    weights = used / (floor**2 + fits.scale[i] ** 2 * around**2)
    structure, column = traffic.structures[carrier.key], traffic.columns[carrier.key]
    above = constant_above(structure, column, carrier.piece)
    line = snap(x, readings.values, weights, ways_to_read(carrier.field, *above), float(fits.spread[i]))
    missed = np.abs(readings.values - (fits.offset[i] + fits.scale[i] * x))[used]
    typical, worst = float(np.median(missed)), float(missed.max())
    left = n - int(used.sum())
    why = f"within {worst:.3g} of {n - left} of {n} readings" if left else f"within {worst:.3g} of all {n} readings"
    why += f", {fits.lag_s[i]:.1f} s behind" if fits.lag_s[i] >= 0.05 else ""
    if left:
        why += f"; {left} taken for misread"
    nats = float(fits.score[i]) - 0.15 * min(line.cost, 12.0)
    return Candidate(
        carrier.key,
        to_byte_end(structure, column, carrier.piece, line.field),
        nats,
        why,
        carrier.page,
        line.scale,
        line.offset,
        float(fits.lag_s[i]),
        residual=(typical, worst),
    )


def sampled(carriers: list[Carrier], times: Times, lags_s: Floats) -> tuple[Floats, Floats]:
    """Raw values at moments ``times - lag``, and how much they move about then; both (carriers, lags, n).

    Between two frames the value is somewhere between the two.
    """
    moments = times[None, :] - np.rint(lags_s * NS_PER_S).astype(np.int64)[:, None]
    flat = moments.ravel()
    raw, between = np.empty((2, len(carriers), *moments.shape))
    for i, carrier in enumerate(carriers):
        at = np.clip(np.searchsorted(carrier.times, flat, side="right") - 1, 0, len(carrier.times) - 2)
        low, high = carrier.values[at], carrier.values[at + 1]
        gone = (flat - carrier.times[at]) / np.maximum(carrier.times[at + 1] - carrier.times[at], 1)
        raw[i] = (low + np.clip(gone, 0, 1) * (high - low)).reshape(moments.shape)
        between[i] = (high - low).reshape(moments.shape)
    reach = max(round(ABOUT_S / float(lags_s[1] - lags_s[0])), 1) if len(lags_s) > 1 else 0
    around = np.empty_like(raw)
    for lag in range(len(lags_s)):
        near = raw[:, max(lag - reach, 0) : lag + reach + 1]
        # A raw value stands for all that is rounded to it.
        around[:, lag] = np.sqrt(near.var(axis=1) + (between[:, lag] ** 2 + 1) / 12)
    return raw, around


def fit_all(raw: Floats, around: Floats, values: Floats, lags_s: Floats, most_dropped: int | None = None) -> Fits:
    """Fit a line to every carrier at every lag; the best lag counts.

    Args:
        raw, around: From `sampled`, shape (carriers, lags, n).
        values: What was read, shape (n,).
    """
    carriers, lags, n = raw.shape
    if most_dropped is None:
        most_dropped = 0 if n < 5 else 1 if n < 7 else 2 if n < 11 else 3
    floor = rounding_of(values) * 0.3
    found = robust_lines(raw.reshape(-1, n), around.reshape(-1, n), values, floor, most_dropped)
    found = found.reshape(carriers, lags, 5)
    best = found[:, :, 0].argmax(axis=1)
    chosen = found[np.arange(carriers), best]
    return Fits(chosen[:, 0], lags_s[best], chosen[:, 1], chosen[:, 2], chosen[:, 3], chosen[:, 4].astype(np.int64))


def mixed_orders(values: Floats, count: int) -> list[Floats]:
    """The readings in other orders, to see how well chance does."""
    random = np.random.default_rng(20)
    return [random.permutation(values) for _ in range(count)]


def trend_of(times: Times, values: Floats) -> float:
    """How steadily values go up or down, from 0 to 1."""
    gone = (times - times[0]).astype(np.float64)
    return abs(float(np.corrcoef(gone, values)[0, 1])) if values.std() > 0 and gone.std() > 0 else 0.0


def nothing_probability(best: float, chance: list[float], spread: float = 1.0, trend: float = 0.0) -> float:
    """How likely it is that nothing carries it.

    Args:
        best: The best score, in nats.
        chance: What evidence in mixed order reaches. The best of many scores of chance is spread like an extreme
            value: by its median, and a width of a few nats.
        spread: By how much (squared) the best fit misses more than rounding and lag explain: what is meant seldom does.
        trend: How steadily the evidence goes up or down. Everything that does the same fits it roughly.
    """
    beyond = max(0.5 * np.log(max(spread, 1.0)) - np.log(SPREAD_EXPECTED), 0.0)
    best = best - beyond * (TREND_COST if trend > TREND else SPREAD_COST)
    middle = float(np.median(chance))
    width = max(float(np.quantile(chance, 0.9)) - middle, 1.0)
    return chance_of_nothing(best, middle + 1.5 * width, width)
