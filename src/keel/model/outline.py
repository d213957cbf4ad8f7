"""Waveforms as they are drawn: what happens in each cell of a drawing, however many samples or edges lie in it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from keel.model.frames import Times
from keel.model.waveform import Analog, Logic

BLOCK, COARSER = 64, 16
"""Samples of the finest blocks, and how many blocks make one of the next coarser ones."""
FEWEST = 4
"""So many blocks lie in a cell at least, so that its bounds are off by no more than that share of it."""

Floats = npt.NDArray[np.float32]


@dataclass(frozen=True, eq=False)
class Bounds:
    """Least and most of blocks of samples, the finest first; of arrays of any number type, shape (n,)."""

    finer: tuple[tuple[Any, Any], ...]


def bounds_of(samples: Any) -> Bounds:
    """The bounds of samples, up to where few blocks are left."""
    levels: list[tuple[Any, Any]] = []
    least = most = samples
    size = BLOCK
    while len(least) > size:
        begins = np.arange(0, len(least), size)
        least, most = np.minimum.reduceat(least, begins), np.maximum.reduceat(most, begins)
        levels.append((least, most))
        size = COARSER
    return Bounds(tuple(levels))


def outline_of_volts(wave: Analog, bounds: Bounds | None, cells: Times) -> tuple[Floats, Floats]:
    """Least and most volts of each cell; not a number where nothing was recorded.

    Args:
        wave: What was sampled.
        bounds: The bounds of its samples, if they are known.
        cells: The edges of the cells, in ns, ascending, shape (n + 1,).
    """
    count = len(cells) - 1
    least, most = np.full(count, np.nan, np.float32), np.full(count, np.nan, np.float32)
    places = (cells - wave.start) / wave.step
    # A line is drawn from one sample to the next: a cell takes in those on both sides of it.
    low, high = np.floor(places[:-1]).astype(np.int64), np.floor(places[1:]).astype(np.int64) + 1
    inside = (high > 0) & (low < len(wave.samples))
    if not inside.any():
        return least, most
    low, high = np.clip(low[inside], 0, None), np.clip(high[inside], 1, len(wave.samples))
    width = float(np.median(high - low))
    size, table = 1, (wave.samples, wave.samples)
    for number, level in enumerate(bounds.finer if bounds is not None else ()):
        block = BLOCK * COARSER**number
        if width < FEWEST * block:
            break
        size, table = block, level
    first, last = low // size, np.maximum(-(-high // size), low // size + 1)
    base, stop = int(first[0]), int(last[-1])
    # Pairs of begin and end: what lies between two cells is dropped.
    pairs = np.stack([first - base, last - base], axis=1).ravel()
    for out, side, reduce in ((least, table[0], np.minimum), (most, table[1], np.maximum)):
        part = np.asarray(side[base:stop])
        ends = np.append(part, part[-1:])
        out[inside] = reduce.reduceat(ends, pairs)[::2] * np.float32(wave.scale)
    if width <= 2:
        # Fewer samples than cells: the line between two samples passes through each cell at its own height.
        ends = np.clip(np.stack([places[:-1][inside], places[1:][inside]]), 0, len(wave.samples) - 1)
        begin = int(ends.min())
        near = wave.samples[begin : int(ends.max()) + 2].astype(np.float32) * np.float32(wave.scale)
        heights = np.interp(ends, begin + np.arange(len(near)), near)
        least[inside], most[inside] = heights.min(axis=0), heights.max(axis=0)
    return least, most


def outline_of_levels(wave: Logic, cells: Times) -> tuple[Times, npt.NDArray[np.int8]]:
    """How many edges lie in each cell, and the level at its begin: 0, 1, or -1 where it is not known."""
    inner = np.clip(cells, wave.start, wave.end)
    counts = np.searchsorted(wave.edges, inner, side="left")
    levels = np.where(counts[:-1] & 1, 1 - wave.first, wave.first).astype(np.int8)
    levels[(cells[1:] <= wave.start) | (cells[:-1] >= wave.end)] = -1
    if wave.unknown:
        spans = np.array(wave.unknown, np.int64)
        place = np.searchsorted(spans[:, 0], cells[1:], side="left") - 1
        hidden = (place >= 0) & (spans[np.maximum(place, 0), 1] > cells[:-1])
        levels[hidden] = -1
    return np.diff(counts), levels


def shift(wave: Logic | Analog, by: int) -> Logic | Analog:
    """A waveform so many ns later."""
    if not by:
        return wave
    if isinstance(wave, Analog):
        lost = tuple((a + by, b + by) for a, b in wave.unknown)
        return Analog(wave.start + by, wave.step, wave.samples, wave.scale, lost)
    unknown: Sequence[tuple[int, int]] = [(a + by, b + by) for a, b in wave.unknown]
    return Logic(wave.start + by, wave.end + by, wave.first, wave.edges + by, tuple(unknown))
