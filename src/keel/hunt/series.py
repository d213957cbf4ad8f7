"""Which field follows a series: a log from another instrument, with a clock of its own.

The instrument's clock may be off, so every field is compared at every offset, by correlation; the offset that fits
best is told. Whatever goes up steadily fits a series that does: the verdict rests on what a field explains beside the
smooth course. What chance reaches is seen by series that go as this one does and mean nothing.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from keel.hunt.aligning import Aligner, grid_of
from keel.hunt.candidates import Candidate, Findings, in_families, unheard, worth_naming
from keel.hunt.carriers import Carrier, constant_above, to_byte_end
from keel.hunt.measurements import Points
from keel.hunt.snapping import snap, ways_to_read
from keel.hunt.traffic import Traffic
from keel.hunt.unforeseen import PRICE_NATS, unforeseen
from keel.hunt.verdict import RARE, Judged, judge
from keel.model.frames import Times
from keel.model.units import NS_PER_S

WITHIN_S = 60.0
"""The instrument's clock is off by no more, unless somebody says so."""
EDGE = 0.98
FINE_S = 0.02
MOST_POINTS = 400
CONSIDERED = 30
CLOSELY = 5
TRIES = 40
FEWEST = 5
LEAST_NATS = 4.0
WINDOWS_S = 2.4
"""Windows of any bits are tried within this offset, and about those that fit best."""
CONSIDERED_AGAIN, TRUSTED, EXPLAINED = 10, 0.9, 2.0
"""So many of the best may be the carrier if, but for a tenth of the series, they miss it by no more than twice what
their steps and its noise explain."""
FEW_VALUES, A_STATE, ROUGHEST = 4, 0.05, 0.02
FINE_BITS = (3.5, 12.0)
"""A field holds between eleven and four thousand different values over what a series covers."""

Floats = npt.NDArray[np.float64]


def follow_series(
    traffic: Traffic,
    series: Points,
    cancelled: Callable[[], bool] = lambda: False,
    within_s: float = WITHIN_S,
) -> Findings:
    """Fields that go as the series goes, in which scale, and by how much its clock is off.

    Args:
        traffic: The frames, and their structure.
        series: What the instrument logged.
        cancelled: Looked at now and then; when true the search ends with what it has.
        within_s: By how many seconds its clock may be off.
    """
    evidence = f"a series of {len(series.values)} values"
    carriers = traffic.carriers
    points = series.thinned(MOST_POINTS)
    times, values = points.times, points.values
    if len(values) < FEWEST or values.std() == 0 or not carriers:
        return unheard(evidence, traffic, f"at least {FEWEST} values that differ are needed")
    aligner = aligner_of(traffic, series.thinned(len(series.values)), within_s)
    fit = np.zeros((len(carriers), len(aligner.rows)))
    offset = np.zeros((len(carriers), len(aligner.rows)))
    for i, carrier in enumerate(carriers):
        if cancelled():
            break
        fits = aligner.fits(carrier)
        fit[i], offset[i] = fits.max(axis=1), aligner.offsets[fits.argmax(axis=1)]
    ranked = np.argsort(-fit[:, 0], kind="stable")[:CONSIDERED].tolist()
    found: list[tuple[Candidate, Carrier]] = []
    free = independent_points(values)
    for i in ranked:
        candidate = _closely(traffic, carriers[i], times, values, float(offset[i, 0]), free, aligner.step_s)
        if candidate is not None and candidate.nats >= LEAST_NATS:
            found.append((candidate, carriers[i]))
    found += _unforeseen(
        traffic, aligner, points, fit[:, 0], [float(offset[i, 0]) for i in ranked[:3]], free, cancelled
    )
    found.sort(key=lambda pair: -pair[0].nats)
    judged = _judged(carriers, aligner, points, fit, offset, found)
    candidates = () if cancelled() else worth_naming(in_families(found), judged)
    notes: tuple[str, ...] = ()
    if candidates:
        lag = candidates[0].lag_s
        notes = (f"the instrument's clock is {abs(lag):.2f} s {'ahead' if lag > 0 else 'behind'}",)
        if abs(lag) >= EDGE * within_s:
            notes = (
                f"the best fit is at the edge of what was tried, {lag:+.1f} s of {within_s:g} s: its clock may be "
                "further off",
            )
    return Findings.of(evidence, judged, candidates, traffic, _reason(judged, within_s), notes)


def _reason(judged: Judged, within_s: float) -> str:
    """Why nothing is found, or what would decide it, in a sentence."""
    if judged.verdict == "nothing":
        return (
            f"a field that carried the series would follow it far better than the best of this recording does at any "
            f"offset within {within_s:g} s (in {judged.power:.0%} of trials)"
        )
    if judged.verdict == "undecided":
        return "the series goes too smoothly to tell what follows it: a stretch in which it turns often would decide it"
    return ""


def aligner_of(traffic: Traffic, series: Points, within_s: float) -> Aligner:
    """The series, and what chance is told by, ready to be held against fields."""
    step, values = grid_of(series.times, series.values)
    first = (
        int(series.times[0])
        + max(int(series.times[-1] - series.times[0]) - round(step * len(values) * NS_PER_S), 0) // 2
    )
    starts, ends = zip(*((int(c.times[0]), int(c.times[-1])) for c in traffic.carriers), strict=True)
    rows = np.vstack([values, altered(values)])
    return Aligner(
        first,
        step,
        rows - rows.mean(axis=1, keepdims=True),
        max(round(within_s / step), 1),
        round((min(starts) - first) / NS_PER_S / step),
        round((max(ends) - first) / NS_PER_S / step),
    )


def altered(values: Floats) -> Floats:
    """Series that go as this one does, and mean nothing; shape (`TRIES`, n).

    Each keeps the course as a whole, forward or backward. What it adds is moved round and turned in time, or has the
    same spectrum and other phases. Source: J. Theiler et al., Physica D 58 (1992), 77, surrogate data.
    """
    random = np.random.default_rng(22)
    n = len(values)
    course = smooth_course(n, values)
    detail = values - course
    spectrum = np.fft.rfft(detail)
    found = []
    for number in range(TRIES):
        if number % 2:
            other = np.roll(detail[::-1], int(random.integers(n)))
        else:
            other = np.fft.irfft(np.abs(spectrum) * np.exp(2j * np.pi * random.random(len(spectrum))), n)
        found.append(other + (course if number % 4 < 2 else course[::-1]))
    return np.stack(found)


def smooth_course(n: int, values: Floats) -> Floats:
    """A series as a parabola in time: whatever else goes up or down steadily follows that."""
    t = np.linspace(-1, 1, n)
    return np.asarray(np.polyval(np.polyfit(t, values, 2), t))


def detail_fit(x: Floats, y: Floats) -> float:
    """How much of what a series does beside its smooth course a field explains: a squared correlation."""
    dx, dy = x - smooth_course(len(x), x), y - smooth_course(len(y), y)
    both = float((dx * dx).sum() * (dy * dy).sum())
    # What is left of a straight line by rounding is no detail.
    if both <= 1e-18 * float((x * x).sum() * (y * y).sum()) or not both:
        return 0.0
    return float((dx * dy).sum() ** 2 / both)


def _judged(
    carriers: list[Carrier],
    aligner: Aligner,
    points: Points,
    fit: Floats,
    offset: Floats,
    found: list[tuple[Candidate, Carrier]],
) -> Judged:
    """The verdict, by what the best fields explain beside the smooth course."""
    detail = points.values - smooth_course(len(points.values), points.values)
    free = independent_points(detail)
    own = [detail_fit(*_beside(carrier, points, candidate.lag_s)) for candidate, carrier in found[:CLOSELY]]
    best = nats_of(max(own, default=0.0), free)
    steps = aligner.rows.shape[1]
    # At the moments of the series itself: few points are fitted by anything, and chance must be as few.
    places = (points.times - aligner.start) / NS_PER_S / aligner.step_s
    inside = (places >= 0) & (places <= steps - 1)
    chance = []
    for row in range(1, len(aligner.rows)):
        other = Points(points.times[inside], np.interp(places[inside], np.arange(steps), aligner.rows[row]))
        near = np.argsort(-fit[:, row], kind="stable")[:CLOSELY].tolist()
        chance.append(max(detail_fit(*_beside(carriers[i], other, float(offset[i, row]))) for i in near))
    scores = np.array([nats_of(one, free) for one in chance])
    noise = noise_of(points)
    possible = any(_could_carry(carrier, points, candidate, noise) for candidate, carrier in found[:CONSIDERED_AGAIN])
    imagined = imagined_scores(carriers, points, free, noise)
    return judge(best, scores, imagined, LEAST_NATS, extend=True, usual=RARE, possible=possible)


def noise_of(points: Points) -> float:
    """How much a series is off from one value to the next: what is left of its second differences by a median.

    Of a smooth series with noise their variance is six times the noise's own.
    """
    bends = np.abs(np.diff(points.values, 2))
    # Of what goes too fast for the instrument they show the pace instead: no instrument is that rough.
    return min(float(np.median(bends)) * 1.4826 / 6**0.5, ROUGHEST * float(np.ptp(points.values)))


def _could_carry(carrier: Carrier, points: Points, candidate: Candidate, noise: float) -> bool:
    """Whether a field misses the series by no more than its own coarseness, its pace and the series' noise explain."""
    x, y = _beside(carrier, points, candidate.lag_s)
    if not x.std():
        return False
    slope, start = _line(x, y, np.ones(len(x)))
    if len(np.unique(carrier.raw)) <= FEW_VALUES and np.var(y - start - slope * x) > A_STATE * np.var(y):
        return False
    squares = np.sort((y - start - slope * x) ** 2)[: max(int(TRUSTED * len(x)), 1)]
    pace = float(np.mean(np.diff(carrier.values) ** 2))
    explained = noise**2 + slope**2 * (1 + pace) / 12
    return float(squares.mean()) < EXPLAINED * explained


def _beside(carrier: Carrier, points: Points, lag_s: float) -> tuple[Floats, Floats]:
    """A field's values and the series', where both are."""
    moments = points.times - round(lag_s * NS_PER_S)
    inside = (moments >= carrier.times[0]) & (moments <= carrier.times[-1])
    if inside.sum() < FEWEST:
        return np.zeros(FEWEST), np.zeros(FEWEST)
    return at_offsets(carrier, points.times[inside], np.array([lag_s]))[0], points.values[inside]


def imagined_scores(carriers: list[Carrier], points: Points, free: float, noise: float) -> Floats:
    """What fields would score that carry the series: sent as often as those of this recording, as fine, and logged with
    the noise that the series shows; nats, shape (m,)."""
    random = np.random.default_rng(23)
    y = points.values
    seconds = (points.times - points.times[0]) / NS_PER_S
    scores = []
    for i in random.integers(0, len(carriers), TRIES).tolist():
        cycle = min(max(carriers[i].cycle_s, 0.01), 2.0)
        at = random.uniform(0, cycle) + cycle * np.arange(int(seconds[-1] / cycle) + 1)
        step = float(np.ptp(y)) / 2.0 ** random.uniform(*FINE_BITS)
        sent = np.rint(np.interp(at, seconds, y) / step) * step
        read = sent[np.clip(np.searchsorted(at, seconds, "right") - 1, 0, len(sent) - 1)]
        scores.append(nats_of(detail_fit(read, y + random.normal(0, max(noise, step / 4), len(y))), free))
    return np.array(scores)


def _unforeseen(
    traffic: Traffic,
    aligner: Aligner,
    points: Points,
    fit: Floats,
    about: list[float],
    free: float,
    cancelled: Callable[[], bool],
) -> list[tuple[Candidate, Carrier]]:
    """Windows of any bits that follow the series far better than the fields of their identifier do."""
    known: dict[int, float] = {}
    for carrier, best in zip(traffic.carriers, fit.tolist(), strict=True):
        known[carrier.key] = max(known.get(carrier.key, 0.0), best)
    offsets = np.unique(np.concatenate([np.arange(-WINDOWS_S, WINDOWS_S + 0.1, 0.4), about]).round(2))
    found = []
    for carrier in unforeseen(traffic, points.times, points.values, offsets, known):
        if cancelled():
            break
        fits = aligner.fits(carrier)[0]
        place = float(aligner.offsets[fits.argmax()])
        candidate = _closely(traffic, carrier, points.times, points.values, place, free, aligner.step_s)
        if candidate is not None and candidate.nats - PRICE_NATS >= LEAST_NATS:
            why = f"{candidate.why}; the structure alone did not show it"
            found.append((replace(candidate, nats=candidate.nats - PRICE_NATS, why=why), carrier))
    return found


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


def _closely(
    traffic: Traffic, carrier: Carrier, times: Times, values: Floats, about: float, free: float, step_s: float
) -> Candidate | None:
    """The candidate at its best offset near one of the grid, and its scale."""
    fine = max(FINE_S, step_s / 10)
    offsets = about + np.arange(-step_s, step_s + fine / 2, fine)
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
        header=carrier.header,
    )


def _line(x: Floats, y: Floats, w: Floats) -> tuple[float, float]:
    mx, my = float((w * x).sum() / w.sum()), float((w * y).sum() / w.sum())
    slope = float((w * (x - mx) * (y - my)).sum() / (w * (x - mx) ** 2).sum())
    return slope, my - slope * mx
