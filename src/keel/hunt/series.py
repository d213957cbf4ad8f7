"""Which field follows a series: a log from another instrument, with a clock of its own.

The instrument's clock may be off by some seconds, so every field is compared at every offset, by correlation; the
offset that fits best is told. What chance reaches is seen by turning the series round in time: it then goes by its
own ways still, but not by those of the vehicle.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from keel.hunt.candidates import MOST_CANDIDATES, SURELY_NOTHING, Candidate, Findings, chance_of_nothing, in_families
from keel.hunt.carriers import Carrier, constant_above, to_byte_end
from keel.hunt.points import Points
from keel.hunt.scene import Traffic
from keel.hunt.snapping import snap, ways_to_read
from keel.hunt.unforeseen import PRICE_NATS, unforeseen
from keel.model.frames import Times
from keel.model.units import NS_PER_S

MOST_OFFSET_S = 2.5
STEP_S = 0.1
FINE_S = 0.02
MOST_POINTS = 400
CONSIDERED = 30
TURNS = 60
FEWEST = 5
LEAST_NATS = 4.0
WINDOW_STEPS = 4
"""Windows of any bits are tried at every fourth offset."""

Floats = npt.NDArray[np.float64]


def follow_series(traffic: Traffic, series: Points, cancelled: Callable[[], bool] = lambda: False) -> Findings:
    """Fields that go as the series goes, in which scale, and by how much its clock is off."""
    evidence = f"a series of {len(series.values)} values"
    carriers = traffic.carriers
    points = series.thinned(MOST_POINTS)
    times, values = points.times, points.values
    if len(values) < FEWEST or values.std() == 0 or not carriers:
        note = f"at least {FEWEST} values that differ are needed"
        return Findings(evidence, 1.0, (), len(traffic.columns), len(carriers), (note,))
    offsets = np.arange(-MOST_OFFSET_S, MOST_OFFSET_S + STEP_S / 2, STEP_S)
    fit = np.zeros((len(carriers), len(offsets)))
    turned = turned_values(values)
    chance = np.zeros((len(carriers), turned.shape[1]))
    for i, carrier in enumerate(carriers):
        if cancelled():
            break
        x = at_offsets(carrier, times, offsets)
        fit[i] = correlation(x, values[:, None])[:, 0] ** 2
        chance[i] = (correlation(x[::3], turned) ** 2).max(axis=0)
    free = independent_points(values)
    known: dict[int, float] = {}
    for carrier, row in zip(carriers, fit, strict=True):
        known[carrier.key] = max(known.get(carrier.key, 0.0), float(row.max()))
    more = unforeseen(traffic, times, values, offsets[::WINDOW_STEPS], known)
    ranked = np.argsort(-fit.max(axis=1), kind="stable")[:CONSIDERED].tolist()
    found = []
    for i in ranked:
        candidate = _closely(traffic, carriers[i], times, values, float(offsets[fit[i].argmax()]), free)
        if candidate is not None and candidate.nats >= LEAST_NATS:
            found.append((candidate, carriers[i]))
    for carrier in more:
        if cancelled():
            break
        about = offsets[(correlation(at_offsets(carrier, times, offsets), values[:, None])[:, 0] ** 2).argmax()]
        candidate = _closely(traffic, carrier, times, values, float(about), free)
        if candidate is not None and candidate.nats - PRICE_NATS >= LEAST_NATS:
            why = f"{candidate.why}; the structure alone did not show it"
            found.append((replace(candidate, nats=candidate.nats - PRICE_NATS, why=why), carrier))
    found.sort(key=lambda pair: -pair[0].nats)
    by_chance = [nats_of(float(r), free) for r in chance.max(axis=0)]
    best = max([nats_of(float(fit.max()), free), *(c.nats for c, carrier in found if carrier in more)])
    nothing = _nothing(best, by_chance)
    if nothing > SURELY_NOTHING:
        found = []
    notes = traffic.notes
    if found:
        lag = found[0][0].lag_s
        notes += (f"the instrument's clock is {abs(lag):.2f} s {'ahead' if lag > 0 else 'behind'}",)
    return Findings(
        evidence, nothing, tuple(in_families(found)[:MOST_CANDIDATES]), len(traffic.columns), len(carriers), notes
    )


def at_offsets(carrier: Carrier, times: Times, offsets: Floats) -> Floats:
    """Raw values at ``times - offset``, between frames in a straight line; shape (offsets, n)."""
    start = carrier.times[0]
    moments = (times[None, :] - start) / NS_PER_S - offsets[:, None]
    return np.asarray(np.interp(moments, (carrier.times - start) / NS_PER_S, carrier.values))


def correlation(x: Floats, y: Floats) -> Floats:
    """Of each row of ``x`` (rows, n) with each column of ``y`` (n, columns); 0 where one does not move."""
    dx, dy = x - x.mean(axis=1, keepdims=True), y - y.mean(axis=0)
    sizes = np.sqrt((dx * dx).sum(axis=1))[:, None] * np.sqrt((dy * dy).sum(axis=0))[None, :]
    return np.asarray(np.divide(dx @ dy, sizes, out=np.zeros(sizes.shape), where=sizes > 1e-12))


def independent_points(values: Floats) -> float:
    """How many independent values a series is worth: neighbours say nearly the same."""
    d = values - values.mean()
    steps = float((np.diff(d) ** 2).mean() / max(2 * (d * d).mean(), 1e-300))
    # Noise alone makes neighbours differ a little, however slowly the rest goes.
    return float(np.clip(len(values) * min(4 * steps, 1.0), 8.0, 120.0))


def nats_of(fit: float, free: float) -> float:
    """The log likelihood ratio of a squared correlation."""
    return float(-0.5 * (free - 2) * np.log(max(1 - fit, 1e-6)))


def turned_values(values: Floats) -> Floats:
    """The series backward, upside down in time and moved round; shape (n, turns)."""
    n = len(values)
    moves = np.linspace(0.15, 0.85, TURNS // 2) * n
    forward = [np.roll(values, int(m)) for m in moves]
    backward = [np.roll(values[::-1], int(m)) for m in moves]
    return np.stack(forward + backward, axis=1)


def _nothing(best: float, chance: list[float]) -> float:
    middle = float(np.median(chance))
    width = max(float(np.quantile(chance, 0.9)) - middle, 1.5)
    return chance_of_nothing(best, middle + 1.2 * width, width)


def _closely(
    traffic: Traffic, carrier: Carrier, times: Times, values: Floats, about: float, free: float
) -> Candidate | None:
    """The candidate at its best offset, and its scale."""
    offsets = about + np.arange(-STEP_S, STEP_S + FINE_S / 2, FINE_S)
    fits = correlation(at_offsets(carrier, times, offsets), values[:, None])[:, 0] ** 2
    lag = float(offsets[fits.argmax()])
    # Only where the field was sent at all.
    moments = times - np.rint(lag * NS_PER_S).astype(np.int64)
    inside = (moments >= carrier.times[0]) & (moments <= carrier.times[-1])
    if inside.sum() < FEWEST:
        return None
    x, y = at_offsets(carrier, times[inside], np.array([lag]))[0], values[inside]
    if x.std() == 0 or y.std() == 0:
        return None
    fit = float(correlation(x[None, :], y[:, None])[0, 0] ** 2)
    weights = np.ones(len(x))
    for _ in range(3):
        slope, start = _line(x, y, weights)
        missed = np.abs(y - start - slope * x)
        size = max(1.4826 * float(np.median(missed)), 1e-9)
        # Points far off (a drop-out of the instrument, a step at another moment) count for less.
        weights = np.minimum(1.0, 2.5 * size / np.maximum(missed, 1e-12))
    spread2 = max(float((weights * missed**2).sum() / weights.sum()), 1e-12)
    structure, column = traffic.structures[carrier.key], traffic.columns[carrier.key]
    above = constant_above(structure, column, carrier.piece)
    shared = free / len(x)
    line = snap(x, y, weights / spread2 * max(shared, 0.2), ways_to_read(carrier.field, *above), 1.0)
    why = f"follows the series: {fit:.1%} of its movement"
    nats = nats_of(fit, free) - 0.15 * min(line.cost, 12.0)
    return Candidate(
        carrier.key,
        to_byte_end(structure, column, carrier.piece, line.field),
        nats,
        why,
        carrier.page,
        line.scale,
        line.offset,
        lag,
        residual=(float(np.median(missed)), float(missed.max())),
    )


def _line(x: Floats, y: Floats, w: Floats) -> tuple[float, float]:
    mx, my = float((w * x).sum() / w.sum()), float((w * y).sum() / w.sum())
    slope = float((w * (x - mx) * (y - my)).sum() / (w * (x - mx) ** 2).sum())
    return slope, my - slope * mx
