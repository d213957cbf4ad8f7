"""How full a bus is: exact bits on the wire at the bus's bit rates, over time.

A frame counts where it begins.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from keel.ask.matches import Matches
from keel.model.bus import Bus, wire_ns
from keel.model.frames import Times
from keel.model.span import Span
from keel.model.units import NS_PER_S
from keel.store.chunk import Chunk
from keel.store.recording import Snapshot

GRID_NS = 100_000_000
"""Closed chunks are summed once on this grid; anything coarser is made from it."""
Floats = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Grid:
    """Frames and wire time of one chunk per bus and 100 ms; shapes (buses, bins)."""

    first_bin: int
    frames: Floats
    wire: Floats
    faults: Times


@dataclass(frozen=True)
class Series:
    """Frames per second and load (0 to 1, or more if the bit rate is wrong) per bus over equal stretches.

    Shapes (buses, cells); ``fault_times`` are in ns.
    """

    span: Span
    rate_hz: Floats
    load: Floats
    fault_times: Times


@dataclass(frozen=True)
class BusLoad:
    """One bus over a stretch: mean and peak load from 0 to 1; the peak is the fullest second, wherever it begins."""

    frames: int
    mean: float
    peak: float
    peak_at: int


def cells_for(span: Span, most: int) -> int:
    """Into how many stretches to cut a span for a chart of its load: of a second at least, unless the span is
    short, because a burst within a second is no load."""
    return int(min(max(most, 1), max(span.seconds, 40)))


class Loads:
    """Load over time of growing recordings; what was summed for a chunk is kept while it lasts."""

    def __init__(self) -> None:
        self._grids: dict[int, Grid] = {}
        self._buses: list[Bus] = []

    def _grid(self, chunk: Chunk, buses: list[Bus]) -> Grid:
        if chunk.serial not in self._grids:
            self._grids[chunk.serial] = _make_grid(chunk, buses)
        return self._grids[chunk.serial]

    def series(self, snapshot: Snapshot, span: Span, cells: int) -> Series:
        """Rate and load in ``cells`` equal stretches of a span."""
        buses = snapshot.manifest.buses
        if buses != self._buses:
            self._grids, self._buses = {}, list(buses)
        kept = {c.serial for c in snapshot.chunks}
        self._grids = {serial: grid for serial, grid in self._grids.items() if serial in kept}
        width = max((span.end - span.start) / max(cells, 1), 1.0)
        frames, wire = np.zeros((len(buses), cells)), np.zeros((len(buses), cells))
        covered = np.full(cells, width)
        coarse = width >= 2 * GRID_NS
        faults = []
        for chunk in snapshot.chunks:
            if chunk.span.end < span.start or chunk.span.start >= span.end:
                continue
            if coarse:
                grid = self._grid(chunk, buses)
                middles = np.asarray((grid.first_bin + np.arange(grid.frames.shape[1]) + 0.5) * GRID_NS, np.float64)
                _spread(middles, grid.frames, grid.wire, span, width, frames, wire)
                faults.append(grid.faults)
            else:
                _count(chunk, buses, span, width, frames, wire)
                faults.append(chunk.batch.time[chunk.batch.faults != 0])
        if coarse:
            # A stretch holds a whole number of bins, not always the same one.
            edges = span.start + np.arange(cells + 1) * width
            bins = np.diff(np.floor(edges / GRID_NS + 0.5))
            covered = np.maximum(bins, 1) * GRID_NS
        all_faults = np.sort(np.concatenate(faults)) if faults else np.zeros(0, np.int64)
        inside = all_faults[(all_faults >= span.start) & (all_faults < span.end)]
        return Series(span, frames / covered * NS_PER_S, wire / covered, inside)


def _make_grid(chunk: Chunk, buses: list[Bus]) -> Grid:
    batch = chunk.batch
    bins = batch.time // GRID_NS
    first = int(bins.min())
    size = int(bins.max()) - first + 1
    shape = (len(buses), size)
    flat = batch.bus.astype(np.int64) * size + (bins - first)
    frames = np.bincount(flat, minlength=len(buses) * size).astype(np.float64).reshape(shape)
    wire = np.bincount(flat, wire_ns(batch, buses), minlength=len(buses) * size).astype(np.float64).reshape(shape)
    return Grid(first, frames, wire, batch.time[batch.faults != 0])


def _spread(
    middles: Floats,
    add_frames: Floats,
    add_wire: Floats,
    span: Span,
    width: float,
    frames: Floats,
    wire: Floats,
) -> None:
    cell = np.floor((middles - span.start) / width).astype(np.int64)
    inside = (cell >= 0) & (cell < frames.shape[1])
    cells, size = cell[inside], frames.shape[1]
    for bus in range(len(frames)):
        frames[bus] += np.bincount(cells, add_frames[bus, inside], minlength=size)
        wire[bus] += np.bincount(cells, add_wire[bus, inside], minlength=size)


def _count(chunk: Chunk, buses: list[Bus], span: Span, width: float, frames: Floats, wire: Floats) -> None:
    inside = chunk.in_span(span)
    arrivals = np.arange(*inside) if isinstance(inside, tuple) else np.flatnonzero(inside)
    batch = chunk.batch.take(chunk.order[arrivals])
    cells = frames.shape[1]
    cell = np.minimum(((batch.time - span.start) / width).astype(np.int64), cells - 1)
    flat = batch.bus.astype(np.int64) * cells + cell
    frames += np.bincount(flat, minlength=frames.size).reshape(frames.shape)
    wire += np.bincount(flat, wire_ns(batch, buses), minlength=wire.size).reshape(wire.shape)


def bus_loads(matches: Matches, span: Span) -> list[BusLoad]:
    """Mean and peak load of each bus by the matching frames, exactly; the mean is over ``span``."""
    buses = matches.snapshot.manifest.buses
    times: list[list[Times]] = [[] for _ in buses]
    wires: list[list[Floats]] = [[] for _ in buses]
    for part in matches.parts:
        if not part.count:
            continue
        rows = part.chunk.order if part.whole else part.chunk.order[part.mask()]
        time, bus = part.chunk.batch.time[rows], part.chunk.batch.bus[rows]
        wire = wire_ns(part.chunk.batch, buses)[rows]
        for index in range(len(buses)):
            of_bus = bus == index
            times[index].append(time[of_bus])
            wires[index].append(wire[of_bus])
    length = max(span.end - span.start, 1)
    return [_bus_load(_join(t, np.int64), _join(w, np.float64), length) for t, w in zip(times, wires, strict=True)]


def _join(parts: list[Any], kind: Any) -> Any:
    return np.concatenate(parts) if parts else np.zeros(0, kind)


def _bus_load(time: Times, wire: Floats, length: int) -> BusLoad:
    if not len(time):
        return BusLoad(0, 0.0, 0.0, 0)
    if (np.diff(time) < 0).any():
        order = np.argsort(time, kind="stable")
        time, wire = time[order], wire[order]
    total: Any = np.concatenate([[0.0], np.cumsum(wire)])
    in_second = total[np.searchsorted(time, time + NS_PER_S)] - total[:-1]
    peak = int(np.argmax(in_second))
    return BusLoad(len(time), float(total[-1]) / length, float(in_second[peak]) / NS_PER_S, int(time[peak]))
