"""Volts into levels: what low and high are on a line, where to cut between them, and when it crosses.

Low and high are the medians of the samples below and above the middle; the cut lies half way, with a hysteresis wider
than the noise. Edges lie where the line crosses the cut, between two samples.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import numpy.typing as npt
from numba import njit

from keel.lines.level_samples import (
    BLOCKS,
    FEWEST_BLOCKS,
    HALF_WAY,
    LEAST_SWING,
    MOST_BLOCKS,
    MOST_OF_A_BLOCK,
    SMALL_BLOCK,
    blocks_of,
    fine_noise,
    levels_at_times,
    means_of,
    moving_levels,
    rounded_noise,
    rounding_of,
    spread_about,
    two_levels,
)
from keel.lines.steps import Steps, cuts_by_steps, steps_of
from keel.model.waveform import Analog, Logic

MOST_LOOKED_AT = 1 << 18
HYSTERESIS, MOST_HYSTERESIS = 0.15, 0.35
"""As a share of the swing: at least, and at most."""
STEPS_A_BLOCK = 64
"""Levels over time are known by the block; a cut between them moves in so many steps a block."""
A_DRIFT = 0.12
"""Levels that move by such a share of the swing drift, and the cut moves with them."""
NOISY = 0.12
FULL_SCALE = 0.998
A_LITTLE = 0.01
"""A channel crosses a voltage where it goes beyond it by such a share of its reach."""
A_WANDERING, SMOOTH = 0.2, 40
"""A line without levels wanders where it moves by more volts than that, in steps that are such a part of it or less."""

Floats = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Levels:
    """What a line's levels are, in volts.

    Attributes:
        swing: Whether it has two levels at all.
        noise: The usual distance of samples from their level.
        drifts: Whether the levels move over time.
        said: What is to be known, in sentences.
        steps: How it steps, where its levels are known by that alone.
        rest: Where it rests between two levels, as a pair of wires does that nobody drives; None if it does not.
        smooth: Of so many samples a mean is taken before they are cut: noise hides the levels of single ones.
    """

    low: float
    high: float
    threshold: float
    hysteresis: float
    noise: float
    swing: bool
    drifts: bool
    said: tuple[str, ...]
    steps: Steps | None = None
    rest: float | None = None
    smooth: int = 1


def levels_of(wave: Analog, threshold: float | None = None, hysteresis: float | None = None) -> Levels:
    """The levels of a line.

    Args:
        wave: Its volts.
        threshold: Where low and high part, in volts, if a person said so.
        hysteresis: How far below and above, together, nothing counts, in volts, if a person said so.
    """
    if not len(wave):
        return Levels(0.0, 0.0, 0.0, 0.0, 0.0, False, False, ("no samples",))
    looked = wave.volts(every=max(len(wave) // MOST_LOOKED_AT, 1))
    if threshold is not None:
        return _set_by_hand(wave, looked, threshold, hysteresis)
    found = _found_levels(wave, looked)
    return found if hysteresis is None else replace(found, hysteresis=hysteresis / 2)


def _found_levels(wave: Analog, looked: Floats) -> Levels:
    """The levels of a line as it shows them."""
    if (between := _at_rest_between(wave)) is not None:
        return between
    low, high = two_levels(looked)
    middle = (low + high) / 2
    below, above = looked[looked < middle], looked[looked >= middle]
    noise = (
        max(spread_about(below, low), spread_about(above, high))
        if len(below) and len(above)
        else spread_about(looked, low)
    )
    noise = max(noise, rounding_of(looked) / 2)
    reach = high - low
    said: list[str] = []
    has_swing = reach > LEAST_SWING * noise and reach > 1e-6 and min(len(below), len(above)) > 2
    if not has_swing and (fine := rounded_noise(wave, looked, low, high)) is not None:
        # Slow edges are no noise.
        noise, has_swing = fine, True
    steps = steps_of(wave) if not has_swing else None
    if steps is not None:
        # Both levels move, but from one to the other it always goes by as much.
        _, cuts = cuts_by_steps(wave, steps)
        middle, reach, noise, has_swing = float(np.median(cuts)), steps.height, steps.noise, True
        low, high = middle - reach / 2, middle + reach / 2
        said.append(
            f"its levels drift by {float(np.ptp(np.percentile(cuts, [2, 98]))):.3g} V: the threshold moves along"
        )
        hysteresis = float(np.clip(4 * noise, HYSTERESIS * reach, MOST_HYSTERESIS * reach)) / 2
        return Levels(low, high, middle, hysteresis, noise, True, True, tuple(said), steps)
    if not has_swing and (seldom := levels_at_times(wave)) is not None:
        # It rests nearly all the time.
        low, high, noise = seldom
        middle, reach, has_swing = (low + high) / 2, high - low, True
    if not has_swing and (moving := moving_levels(wave, rounding_of(looked) / 2)) is not None:
        # Both levels wander farther than they are apart: seen piece by piece they are there.
        low, high, noise = moving
        middle, reach, has_swing = (low + high) / 2, high - low, True
    if not has_swing and (calm := _under_noise(wave)) is not None:
        return calm
    if not has_swing:
        level = float(np.median(looked))
        said.append(_without_levels(wave, looked, level, reach))
        return Levels(level, level, level, 0.0, noise, False, False, tuple(said))
    if noise > NOISY * reach:
        said.append(f"noisy: {noise:.3g} V of noise on a swing of {reach:.3g} V")
    if max(abs(low), abs(high)) > FULL_SCALE and _is_clipped(looked):
        said.append("clipped: it reaches full scale and stays there")
    drift = _drift(wave, low, high)
    if drift > A_DRIFT * reach:
        said.append(f"its levels drift by {drift:.3g} V")
    hysteresis = float(np.clip(4 * noise, HYSTERESIS * reach, MOST_HYSTERESIS * reach)) / 2
    return Levels(low, high, middle, hysteresis, noise, True, drift > A_DRIFT * reach, tuple(said))


def _set_by_hand(wave: Analog, looked: Floats, threshold: float, hysteresis: float | None) -> Levels:
    """The levels of a line that is cut where a person said: whatever crosses that is an edge."""
    below, above = looked[looked < threshold], looked[looked >= threshold]
    if not len(below) or not len(above):
        level = float(np.median(looked))
        said = f"it never crosses {threshold:g} V: it goes from {looked.min():.3g} V to {looked.max():.3g} V"
        return Levels(level, level, threshold, 0.0, spread_about(looked, level), False, False, (said,))
    low, high = float(np.median(below)), float(np.median(above))
    noise = min(fine_noise(wave), max(spread_about(below, low), spread_about(above, high)))
    reach = high - low
    # Not so wide that a level lies within.
    room = 1.8 * min(threshold - low, high - threshold)
    usual = min(float(np.clip(4 * noise, HYSTERESIS * reach, MOST_HYSTERESIS * reach)), max(room, 0.0)) / 2
    return Levels(low, high, threshold, usual if hysteresis is None else hysteresis / 2, noise, True, False, ())


FAR, ON_BOTH_SIDES, ALIKE_FAR, IN_BETWEEN = 0.5, 0.15, 0.35, 0.35
"""A line rests between two levels where what is farther off than such a share of its reach lies on either side for such
a share of the time, about as far; and few samples are half way."""


def _at_rest_between(wave: Analog) -> Levels | None:
    """The levels of a line that rests between them, as the difference of two wires does that nobody drives."""
    samples = np.asarray(wave.samples)
    begins = np.arange(0, len(samples), SMALL_BLOCK)
    if len(begins) < FEWEST_BLOCKS:
        return None
    looked = wave.volts(every=max(len(wave) // MOST_LOOKED_AT, 1))
    rest, noise = float(np.median(looked)), max(fine_noise(wave), rounding_of(looked) / 2)
    most = np.maximum.reduceat(samples, begins) * wave.scale - rest
    least = np.minimum.reduceat(samples, begins) * wave.scale - rest
    away = np.maximum(np.abs(most), np.abs(least))
    busy = np.flatnonzero(away > LEAST_SWING * noise)
    if len(busy) < FEWEST_BLOCKS:
        return None
    reach = float(np.median(away[busy]))
    places = (begins[busy[:MOST_BLOCKS]][:, None] + np.arange(SMALL_BLOCK)).ravel()
    found = np.asarray(samples[places[places < len(samples)]], np.float64) * wave.scale - rest
    up, down = found[found > FAR * reach], found[found < -FAR * reach]
    far = len(up) + len(down)
    if not far or min(len(up), len(down)) < ON_BOTH_SIDES * far:
        return None
    high, low = float(np.median(up)), -float(np.median(down))
    # What goes much farther than either is a line with two levels that drift.
    beyond = np.abs(found) > FARTHER * max(high, low)
    if beyond.sum() > SELDOM_FARTHER * far:
        return None
    half_way = (np.abs(found) > 0.3 * reach) & (np.abs(found) < 0.7 * reach)
    quiet = float((np.abs(looked - rest) < 0.2 * reach).mean())
    if abs(high - low) > ALIKE_FAR * max(high, low) or half_way.sum() > IN_BETWEEN * far or quiet < A_REST:
        return None
    around = f"{rest:.3g} V between {rest - low:.3g} V and {rest + high:.3g} V"
    said = f"three levels: it rests at {around}, as a pair of wires does that nobody drives"
    noise = max(noise, spread_about(up, high))
    reach = min(high, low)
    hysteresis = float(np.clip(4 * noise, HYSTERESIS * reach, MOST_HYSTERESIS * reach)) / 2
    return Levels(rest - low, rest + high, rest + high / 2, hysteresis, noise, True, False, (said,), None, rest)


FARTHER, SELDOM_FARTHER = 2.0, 0.02
"""A line with three levels goes hardly ever so many times as far as they are apart."""
A_REST = 0.1
"""And rests there for such a share of the time."""


def other_cut(levels: Levels) -> Levels | None:
    """Of a line that rests between two levels the same, with its rest taken for the upper one; None of others."""
    if levels.rest is None:
        return None
    return replace(levels, threshold=(levels.rest + levels.low) / 2)


MEANS = (4, 8, 16, 32)
"""Noise that hides a swing is less in the mean of so many samples; the fewest that show it are taken."""


def _under_noise(wave: Analog) -> Levels | None:
    """The levels of a line whose swing is not much more than its noise, by means of some samples; None without any.

    Noise alone has no two levels, however it is smoothed: it is half way between as often as elsewhere.
    """
    for count in MEANS:
        if len(wave) < 100 * count:
            return None
        calm = means_of(wave, count)
        looked = calm.volts(every=max(len(calm) // MOST_LOOKED_AT, 1))
        low, high = two_levels(looked)
        reach = high - low
        below, above = looked[looked < (low + high) / 2], looked[looked >= (low + high) / 2]
        # Spikes are no level.
        if min(len(below), len(above)) < ON_A_LEVEL * len(looked):
            continue
        noise = max(spread_about(below, low), spread_about(above, high))
        between = float(((looked > low + reach / 3) & (looked < high - reach / 3)).mean())
        if reach > LEAST_SWING * noise and reach > A_SWING and between < HALF_WAY / 2:
            said = f"noisy: its levels show in the mean of {count} samples, and so it is read"
            hysteresis = float(np.clip(4 * noise, HYSTERESIS * reach, MOST_HYSTERESIS * reach)) / 2
            return Levels(low, high, (low + high) / 2, hysteresis, noise, True, False, (said,), smooth=count)
    return None


ON_A_LEVEL = 0.05
A_SWING = 0.05
"""In volts: what hides in noise and is less than that is none."""


def _without_levels(wave: Analog, looked: Floats, level: float, reach: float) -> str:
    """What a line does that has no levels."""
    wide, noise = float(np.ptp(looked)), spread_about(looked, level)
    near = wave.volts(len(wave) // 2, len(wave) // 2 + MOST_OF_A_BLOCK)
    step = float(np.median(np.abs(np.diff(near)))) if len(near) > 1 else 0.0
    if wide > A_WANDERING and step < wide / SMOOTH:
        around = round(level, 3) + 0.0
        return f"floating: it wanders by {wide:.3g} V around {around:.3g} V, as a wire does that nobody drives"
    kind = "noise alone" if wide > 6 * noise and reach > A_WANDERING else "no swing"
    return f"{kind}: it rests at {level:.3g} V, noise {noise * 1e3:.3g} mV"


def _is_clipped(samples: Floats) -> bool:
    most, least = samples.max(), samples.min()
    return (
        max(float((samples == most).mean()), float((samples == least).mean())) > 0.05
        and max(most, -least) >= FULL_SCALE
    )


def _drift(wave: Analog, low: float, high: float) -> float:
    _, lows, highs = blocks_of(wave)
    moving = (highs - lows) > 0.6 * (high - low)
    if moving.sum() < 4:
        return 0.0
    return float(np.ptp((lows + highs)[moving] / 2))


def cuts_over_time(wave: Analog, levels: Levels) -> tuple[int, Floats]:
    """The cut of a line whose levels drift: for so many samples each, and the cuts one after another."""
    places, lows, highs = blocks_of(wave)
    moving = (highs - lows) > 0.6 * (levels.high - levels.low)
    size = max(len(wave) // (BLOCKS * STEPS_A_BLOCK), 1)
    middles = np.arange(0, len(wave), size) + size / 2
    return size, np.interp(middles, places[moving], ((lows + highs) / 2)[moving])


@njit(cache=True, nogil=True)
def _edges(samples: Any, cuts: Any, size: Any, reach: Any, start: Any, step: Any, out: Any) -> Any:
    """When a line crosses its cut, in ns: where it last did so before it went farther than ``reach`` beyond it.

    Each cut holds for ``size`` samples. Gives the first level, and how many edges there are.
    """
    count = len(samples)
    first = level = 1 if samples[0] >= cuts[0] else 0
    n = 0
    earliest, i = 0, 1
    for number in range(len(cuts)):
        cut = np.float64(cuts[number])
        above, below = cut + reach, cut - reach
        until = min((number + 1) * size, count)
        while i < until:
            if level:
                while i < until and samples[i] >= below:
                    i += 1
            else:
                while i < until and samples[i] <= above:
                    i += 1
            if i == until:
                break
            # The last sample on the other side lies before; it is looked for only here.
            j = i
            while j > earliest and (samples[j - 1] < cut) == level:
                j -= 1
            before, now = np.float64(samples[j - 1]) - cut, np.float64(samples[j]) - cut
            share = before / (before - now) if (before < 0) != (now < 0) else 0.5
            time = start + np.int64(np.rint((j - 1 + share) * step))
            if n and time <= out[n - 1]:
                time = out[n - 1] + 1
            out[n] = time
            n += 1
            level = 1 - level
            earliest = i
            i += 1
    return first, n


def logic_of(wave: Analog, levels: Levels) -> Logic:
    """A line's volts as levels."""
    if not levels.swing or len(wave) < 2:
        high = len(wave) and float(np.median(wave.volts(0, 1000))) >= levels.threshold and levels.swing
        return Logic(wave.start, wave.end, int(bool(high)), np.zeros(0, np.int64))
    if levels.smooth > 1:
        wave = means_of(wave, levels.smooth)
    if levels.steps is not None:
        size, cuts = cuts_by_steps(wave, levels.steps)
    elif levels.drifts:
        size, cuts = cuts_over_time(wave, levels)
    else:
        size, cuts = len(wave), np.array([levels.threshold])
    out = np.empty(len(wave), np.int64)
    reach = levels.hysteresis / wave.scale
    first, n = _edges(np.asarray(wave.samples), cuts / wave.scale, size, reach, wave.start, wave.step, out)
    return _without(Logic(wave.start, wave.end, int(first), out[:n].copy(), grain=wave.step), wave.unknown)


def _without(logic: Logic, unknown: tuple[tuple[int, int], ...]) -> Logic:
    """The same with spans in which nothing was sampled: no edge lies inside, a level that differs begins behind."""
    edges = logic.edges
    for begin, end in unknown:
        low, high = np.searchsorted(edges, [begin, end], side="left").tolist()
        differs = [end] if (high - low) % 2 else []
        edges = np.concatenate([edges[:low], np.array(differs, np.int64), edges[high:]])
    return replace(logic, edges=edges, unknown=unknown)


def crossed(wave: Analog, volts: float) -> Logic:
    """When a channel goes above a voltage and below it, whatever levels it has; what is noise about it is none."""
    if len(wave) < 2:
        return Logic(wave.start, wave.end, 0, np.zeros(0, np.int64))
    looked = wave.volts(every=max(len(wave) // MOST_LOOKED_AT, 1))
    reach = max(4 * fine_noise(wave), A_LITTLE * float(np.ptp(looked)), 1e-9)
    out = np.empty(len(wave), np.int64)
    cut = np.array([volts / wave.scale])
    first, n = _edges(np.asarray(wave.samples), cut, len(wave), reach / wave.scale, wave.start, wave.step, out)
    return Logic(wave.start, wave.end, int(first), out[:n].copy(), grain=wave.step)


def smoothed(wave: Analog, time_ns: float) -> Analog:
    """What a low-pass of one pole leaves of a line; its time constant is ``time_ns``."""
    out = np.empty(len(wave), np.float32)
    _smooth(np.asarray(wave.samples), 1 - np.exp(-wave.step / time_ns), wave.scale, out)
    return Analog(wave.start, wave.step, out, unknown=wave.unknown)


@njit(cache=True, nogil=True)
def _smooth(samples: Any, share: Any, scale: Any, out: Any) -> None:
    value = np.float64(samples[0]) * scale if len(samples) else 0.0
    for n in range(len(samples)):
        value += share * (samples[n] * scale - value)
        out[n] = value
