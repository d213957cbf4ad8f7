"""Which field follows readings: a handful of values that a person read off a display, late and rounded.

Every field of every identifier is tried, at every lag a person may have. Whether the best of so many means
anything is told by trying the same readings in another order a number of times: what does as well then is chance.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from keel.hunt.candidates import Candidate, Findings, in_families, unheard, worth_naming
from keel.hunt.carriers import Carrier, constant_above, to_byte_end
from keel.hunt.fitting import robust_lines, rounding_of
from keel.hunt.measurements import Points
from keel.hunt.snapping import snap, ways_to_read
from keel.hunt.traffic import Traffic
from keel.hunt.verdict import Judged, judge
from keel.model.frames import Times
from keel.model.units import NS_PER_S

LAGS_S = np.arange(0.0, 1.05, 0.1)
"""A person reads off a display late, and a display shows late."""
ENOUGH_FOR_A_CURVE = 6
IMAGINED, FEWEST_BITS = 100, 3
ROUGH, MISREAD = 0.025, 1 / 15
"""How far off a person reads at most, as a share of the readings' range; and how often by far more."""
ABOUT_S = 0.3
"""The lag of single readings varies by about this much."""

Floats = npt.NDArray[np.float64]


SHUFFLES = 80
THIN = slice(3, None, 4)
"""Chance is tried at some of the lags only."""
CONSIDERED = 40
"""So many of the best are looked at closely."""
FEWEST = 3
MOST_READINGS = 40
"""The search for misread ones goes over pairs of them; more are a series, not readings."""
LEAST_NATS = 2.0
MISSED = 0.0
"""A person misreads: none of the fields made up may do worse than the best there is, where that is nothing."""
TELLS_NOTHING, WORST = 0.12, 0.4
"""A field that misses by so much of the readings' range, typically and at worst, explains next to nothing."""
MOST_MORE = 6


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
    notes = (f"{n} of the {given} readings were looked at; many are a series",) if n < given else ()
    carriers = traffic.carriers
    if n < FEWEST or not carriers or len(np.unique(readings.values)) < 2:
        return unheard(evidence, traffic, f"at least {FEWEST} readings that differ are needed")
    raw, around = sampled(carriers, readings.times, LAGS_S)
    fits = fit_all(raw, around, readings.values, LAGS_S)
    thin, thin_around = np.ascontiguousarray(raw[:, THIN]), np.ascontiguousarray(around[:, THIN])
    chance = []
    for mixed in mixed_orders(readings.times, readings.values, SHUFFLES):
        if cancelled():
            break
        chance.append(float(fit_all(thin, thin_around, mixed, LAGS_S[THIN]).score.max()))
    best = float(fits.score.max())
    judged = judge(best, np.array(chance), imagined_scores(carriers, raw, around, readings), extend=True, missed=MISSED)
    ranked = np.argsort(-fits.score, kind="stable")[:CONSIDERED].tolist()
    found = []
    floor = rounding_of(readings.values) * 0.3
    for i in ranked:
        if fits.score[i] > 0:
            lag = int(np.flatnonzero(fits.lag_s[i] == LAGS_S)[0])
            candidate = _candidate(traffic, carriers[i], raw[i, lag], around[i, lag], readings, fits, i, floor)
            found.append((candidate, carriers[i]))
    found.sort(key=lambda pair: -pair[0].nats)
    reach = float(np.ptp(readings.values))
    found = [pair for i, pair in enumerate(found) if not i or (pair[0].nats >= LEAST_NATS and _tells(pair[0], reach))]
    candidates = () if cancelled() else worth_naming(in_families(found), judged)
    return Findings.of(evidence, judged, candidates, traffic, _reason(judged, best, n), notes)


def _tells(candidate: Candidate, reach: float) -> bool:
    missed = candidate.residual
    return missed is None or (missed[0] <= TELLS_NOTHING * reach and missed[1] <= WORST * reach)


def _reason(judged: Judged, best: float, n: int) -> str:
    """Why nothing is found, or what would decide it, in a sentence."""
    if judged.verdict == "found":
        return ""
    if judged.verdict == "nothing":
        return (
            f"in {judged.power:.0%} of trials a field of this recording, read off {n} times, stands out; "
            "here the best fits no better than readings in another order"
        )
    each = max(best / n, 0.5)
    more = int(np.clip(np.ceil((judged.needed - best) / each + 0.5), 1, MOST_MORE))
    return (
        f"about {more} more reading{'s' if more > 1 else ''} would decide it, at values not read yet, best after a jump"
    )


def imagined_scores(carriers: list[Carrier], raw: Floats, around: Floats, readings: Points) -> Floats:
    """What fields of this recording would score, had they been read at these moments as these readings were.

    Args:
        carriers: The fields.
        raw, around: From `sampled`, shape (carriers, lags, n).
        readings: What was read.

    Returns:
        Nats, shape (m,): of up to `IMAGINED` fields that move at the readings.
    """
    random = np.random.default_rng(21)
    n = len(readings.values)
    fineness = rounding_of(readings.values) / float(np.ptp(readings.values))
    moving = [i for i, c in enumerate(carriers) if len(c.piece.moving) >= FEWEST_BITS and np.ptp(raw[i, 0]) > 0]
    scores = []
    for i in random.permutation(moving)[:IMAGINED].tolist():
        lag = int(random.integers(1, len(LAGS_S) - 2))
        read = raw[i, lag] + random.normal(0, 0.5, n) * around[i, lag]
        reach = max(float(np.ptp(read)), 1e-9)
        read = read + random.normal(0, random.uniform(0, ROUGH), n) * reach
        wrong = random.random(n) < MISREAD
        read = read + wrong * random.choice([-1.0, 1.0], n) * random.uniform(0.2, 0.6, n) * reach
        step = max(fineness * reach, 1e-9)
        read = np.rint(read / step) * step
        if np.ptp(read) > 0:
            scores.append(float(fit_all(raw[i : i + 1], around[i : i + 1], read, LAGS_S).score[0]))
    return np.array(scores)


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
    why += f", readings {fits.lag_s[i]:.1f} s late" if fits.lag_s[i] >= 0.05 else ""
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
        header=carrier.header,
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
        most_dropped = 0 if n < 5 else 1 if n < 7 else 2 if n < 11 else 3 if n < 13 else n * 2 // 7
    floor = rounding_of(values) * 0.3
    found = robust_lines(raw.reshape(-1, n), around.reshape(-1, n), values, floor, most_dropped)
    found = found.reshape(carriers, lags, 5)
    best = found[:, :, 0].argmax(axis=1)
    chosen = found[np.arange(carriers), best]
    return Fits(chosen[:, 0], lags_s[best], chosen[:, 1], chosen[:, 2], chosen[:, 3], chosen[:, 4].astype(np.int64))


def mixed_orders(times: Times, values: Floats, count: int) -> list[Floats]:
    """The readings in other orders, to see how well chance does.

    Whatever goes up steadily fits readings that do: so in every second one only what they differ from a smooth
    course by changes places.
    """
    random = np.random.default_rng(20)
    gone = (times - times[0]).astype(np.float64)
    degree = 2 if len(values) >= ENOUGH_FOR_A_CURVE else 1
    course = np.polyval(np.polyfit(gone, values, degree), gone) if gone.any() else np.full(len(values), values.mean())
    rest = values - course
    step = rounding_of(values)
    orders = []
    for number in range(count):
        mixed = random.permutation(rest) + course if number % 2 else random.permutation(values)
        orders.append(np.rint(mixed / step) * step)
    return orders
