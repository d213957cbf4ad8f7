"""Levels of a line by its steps: where ground or a common voltage moves farther than the levels are apart, a line still
goes up and down by one and the same voltage, within a few samples.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
from numba import njit

from keel.model.waveform import Analog

Floats = npt.NDArray[np.float64]
REACHES = (1, 2, 4, 8, 16)
"""Over so many samples an edge is looked for: one that is rounded takes several."""
CLEAR = 8.0
"""A step goes so many times farther than the line moves otherwise within as many samples."""
FEWEST, ALIKE, MOSTLY, IN_TURN = 8, 0.3, 0.75, 0.85
"""So many steps are no chance; such a share of them is as high as is usual, within so much of it; and such a share of
them goes the other way than the one before."""
LOOKED_AT, PIECES = 1 << 18, 16
LEAST_BLOCK, MOST_BLOCKS = 8, 1 << 21
"""The level below is known by the block of so many samples at least; and so many blocks there are at most."""


@dataclass(frozen=True)
class Steps:
    """How a line steps: by how many volts, over how many samples, and how it moves otherwise, in volts."""

    height: float
    reach: int
    noise: float


def steps_of(wave: Analog) -> Steps | None:
    """The steps of a line; None where it has none that are alike."""
    if len(wave) < 4 * FEWEST:
        return None
    best: tuple[float, Steps] | None = None
    for reach in REACHES:
        differences = _some_differences(wave, reach)
        noise = 1.4826 * float(np.median(np.abs(differences - np.median(differences))))
        clear = max(CLEAR * noise, 1e-6)
        if float((np.abs(differences) > clear).sum()) < FEWEST:
            continue
        _, heights = _found(wave, reach, clear)
        if len(heights) < FEWEST:
            continue
        height = float(np.median(np.abs(heights)))
        alike = np.abs(np.abs(heights) - height) < ALIKE * height
        in_turn = np.sign(heights[1:]) != np.sign(heights[:-1])
        if alike.mean() < MOSTLY or in_turn.mean() < IN_TURN:
            continue
        clearness = height / max(noise, 1e-9)
        if best is None or clearness > 1.2 * best[0]:
            best = clearness, Steps(height, reach, noise)
    return best[1] if best is not None else None


def _some_differences(wave: Analog, reach: int) -> Floats:
    """How far a line goes within so many samples, in volts; of a long one in some pieces of it."""
    if len(wave) <= LOOKED_AT:
        near = wave.volts()
        return near[reach:] - near[:-reach]
    size = LOOKED_AT // PIECES
    begins = np.linspace(0, len(wave) - size, PIECES).astype(np.int64).tolist()
    parts = [wave.volts(begin, begin + size) for begin in begins]
    return np.concatenate([part[reach:] - part[:-reach] for part in parts])


def _found(wave: Analog, reach: int, clear: float) -> tuple[Any, Floats]:
    """Steps that are clear: the sample in the middle of each, and how high it is in volts, below 0 downwards."""
    samples = np.asarray(wave.samples)
    room = len(samples) // (reach + 1) + 1
    places, heights = np.empty(room, np.int64), np.empty(room)
    n = _steps(samples, reach, clear / abs(wave.scale), places, heights)
    return places[:n], heights[:n] * wave.scale


@njit(cache=True, nogil=True)
def _steps(samples: Any, reach: Any, clear: Any, places: Any, heights: Any) -> Any:
    n = 0
    i = 0
    last = len(samples) - reach
    while i < last:
        height = np.float64(samples[i + reach]) - np.float64(samples[i])
        if abs(height) <= clear:
            i += 1
            continue
        # The highest of the next few is the step itself.
        best, at = height, i
        for k in range(i + 1, min(i + reach + 1, last)):
            other = np.float64(samples[k + reach]) - np.float64(samples[k])
            if (other > 0) == (best > 0) and abs(other) > abs(best):
                best, at = other, k
        places[n], heights[n] = at + (reach + 1) // 2, best
        n += 1
        i = at + reach + 1
    return n


def cuts_by_steps(wave: Analog, steps: Steps) -> tuple[int, Floats]:
    """Where a line is cut that steps: half a step above the level below, which moves.

    Returns:
        For so many samples each, the cuts one after another.
    """
    places, heights = _found(wave, steps.reach, max(CLEAR * steps.noise, steps.height / 2))
    size = max(LEAST_BLOCK, 2 * steps.reach, -(-len(wave) // MOST_BLOCKS))
    count = -(-len(wave) // size)
    sums, numbers = np.zeros(count), np.zeros(count)
    samples = np.asarray(wave.samples)
    _level_below(samples, wave.scale, places, heights, steps.height, steps.reach, size, sums, numbers)
    known = np.flatnonzero(numbers)
    if not len(known):
        return len(wave), np.array([float(np.median(wave.volts(0, LOOKED_AT)))])
    levels = sums[known] / numbers[known]
    return size, np.interp(np.arange(count), known, levels) + steps.height / 2


@njit(cache=True, nogil=True)
def _level_below(
    samples: Any, scale: Any, places: Any, heights: Any, height: Any, reach: Any, size: Any, sums: Any, numbers: Any
) -> None:
    """Add up what a line would be if it always were at its lower level, block by block; but for what is near a step."""
    count = len(places)
    k = 0
    # Before the first step the line is where that one comes from.
    high = count > 0 and heights[0] < 0
    for i in range(len(samples)):
        while k < count and places[k] <= i:
            high = heights[k] > 0
            k += 1
        near = (k < count and places[k] - i <= reach) or (k > 0 and i - places[k - 1] <= reach)
        if not near:
            volts = np.float64(samples[i]) * scale
            sums[i // size] += volts - height if high else volts
            numbers[i // size] += 1
