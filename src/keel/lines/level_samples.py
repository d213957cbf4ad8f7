"""What samples tell of the levels of a line: two levels among them, how far they spread, how noisy they are; also where
levels show only now and then, or move.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import numpy.typing as npt

from keel.model.waveform import Analog

Floats = npt.NDArray[np.float64]
MOST_OF_A_BLOCK = 8_192
LEAST_SWING = 8.0
"""A line has levels where they are so many times the noise apart."""
BLOCKS = 32
"""Levels over time are known by the block."""
HALF_WAY = 0.13
"""A line with levels is in the middle third between them for less of the time; a hum is there for longer."""
SMALL_BLOCK, FEWEST_BLOCKS, MOST_BLOCKS, SELDOM, SELDOM_SWING, SPIKES = 64, 8, 4_096, 0.2, 2.5, 0.1
"""A line that rests nearly all the time is looked at where it does not: in so short pieces, so many at least and at
most, such a share of all; there it goes so many times farther than elsewhere, and is for such a share of the time on
either level: spikes are not."""


FEW_STEPS, SMALL_STEP, RESTLESS = 2.5, 0.05, 0.2
"""Numbers of an instrument that are so few of its steps apart, each of no more volts than that, and change at such a
share of all samples, are no levels but the same one, rounded."""


def rounding_of(looked: Floats) -> float:
    """By how many volts an instrument's numbers are apart, where a line goes up and down by one or two of them alone;
    else 0."""
    values = np.unique(looked)
    if len(values) < 2:
        return 0.0
    step = float(np.diff(values).min())
    low, high = np.percentile(looked, [0.5, 99.5])
    is_restless = float((np.diff(looked) != 0).mean()) > RESTLESS
    return step if high - low <= 2 * FEW_STEPS * step and step < SMALL_STEP and is_restless else 0.0


def means_of(wave: Analog, count: int) -> Analog:
    """The mean of each so many samples around a sample, as a waveform."""
    sums = np.concatenate([[0.0], np.cumsum(np.asarray(wave.samples, np.float64))])
    half = count // 2
    begins = np.clip(np.arange(len(wave)) - half, 0, len(wave))
    ends = np.clip(begins + count, 0, len(wave))
    means = (sums[ends] - sums[begins]) / np.maximum(ends - begins, 1)
    return replace(wave, samples=means.astype(np.float32))


def levels_at_times(wave: Analog) -> tuple[float, float, float] | None:
    """Low, high and noise of a line that rests nearly all the time, from where it does not; None where it has no two
    levels there either."""
    samples = np.asarray(wave.samples)
    begins = np.arange(0, len(samples), SMALL_BLOCK)
    if len(begins) < FEWEST_BLOCKS:
        return None
    spread = (np.maximum.reduceat(samples, begins) - np.minimum.reduceat(samples, begins)) * wave.scale
    usual = float(np.median(spread))
    busy = np.flatnonzero(spread > SELDOM_SWING * usual)[:MOST_BLOCKS]
    if not FEWEST_BLOCKS <= len(busy) <= SELDOM * len(begins):
        return None
    places = (begins[busy][:, None] + np.arange(SMALL_BLOCK)).ravel()
    found = np.asarray(samples[places[places < len(samples)]], np.float64) * wave.scale
    low, high = two_levels(found)
    reach, noise = high - low, usual / 6
    between = float(((found > low + reach / 3) & (found < high - reach / 3)).mean())
    share = float((found > (low + high) / 2).mean())
    is_two = reach > LEAST_SWING * noise and between < HALF_WAY and SPIKES < share < 1 - SPIKES
    return (low, high, noise) if is_two else None


def rounded_noise(wave: Analog, looked: Floats, low: float, high: float) -> float | None:
    """The noise of a line whose edges are slow: from one sample to the next; None where it rests on no levels.

    What wanders between two levels is half way as long as elsewhere; what goes from one to the other is not.
    """
    reach = high - low
    between = float(((looked > low + reach / 3) & (looked < high - reach / 3)).mean())
    noise = max(fine_noise(wave), rounding_of(looked) / 2)
    return noise if reach > LEAST_SWING * noise and reach > 1e-3 and between < HALF_WAY else None


def fine_noise(wave: Analog) -> float:
    """The noise of a line from one sample to the next, by how much three in a row bend."""
    near = wave.volts(0, MOST_OF_A_BLOCK)
    bends = np.abs(near[2:] - 2 * near[1:-1] + near[:-2]) if len(near) > 2 else np.zeros(1)
    return 1.4826 * float(np.median(bends)) / float(np.sqrt(6))


def moving_levels(wave: Analog, least_noise: float) -> tuple[float, float, float] | None:
    """Low, high and noise of a line whose levels wander; None where no piece of it has levels."""
    _, lows, highs = blocks_of(wave)
    size = max(len(wave) // BLOCKS, 1)
    found = []
    for number in range(len(lows)):
        part = wave.volts(number * size, (number + 1) * size)
        part = part - np.linspace(part[: size // 8 + 1].min(), part[-size // 8 - 1 :].min(), len(part))
        low, high = two_levels(part)
        middle = (low + high) / 2
        below, above = part[part < middle], part[part >= middle]
        noise = max(spread_about(below, low), spread_about(above, high)) if len(below) and len(above) else np.inf
        noise = max(noise, least_noise)
        if high - low > LEAST_SWING * noise and high - low > 1e-3:
            found.append((high - low, noise))
    if len(found) < max(len(lows) // 2, 4):
        return None
    reach, noise = (float(np.median(one)) for one in zip(*found, strict=True))
    middle = float(np.median((lows + highs) / 2))
    return middle - reach / 2, middle + reach / 2, noise


def two_levels(samples: Floats) -> tuple[float, float]:
    """Two levels: medians below and above the middle between them."""
    least, most = np.percentile(samples, [0.5, 99.5])
    low, high = float(least), float(most)
    for _ in range(4):
        middle = (low + high) / 2
        below, above = samples[samples < middle], samples[samples >= middle]
        if not len(below) or not len(above):
            break
        low, high = float(np.median(below)), float(np.median(above))
    return low, high


def spread_about(samples: Floats, level: float) -> float:
    """How far samples usually are from a level, as the standard deviation of as much noise."""
    return 1.4826 * float(np.median(np.abs(samples - level))) if len(samples) else 0.0


def blocks_of(wave: Analog) -> tuple[Any, Floats, Floats]:
    """Lows and highs of stretches of a line: places in the middle, and both levels; of those that have a swing."""
    size = max(len(wave) // BLOCKS, 1)
    places, lows, highs = [], [], []
    for number in range(min(BLOCKS, len(wave) // size)):
        part = wave.volts(number * size, (number + 1) * size, max(size // MOST_OF_A_BLOCK, 1))
        least, most = np.percentile(part, [2, 98])
        places.append((number + 0.5) * size)
        lows.append(float(least))
        highs.append(float(most))
    return np.array(places), np.array(lows), np.array(highs)
