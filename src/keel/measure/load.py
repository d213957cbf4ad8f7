"""How full a bus is: exact bits on the wire at the bus's bit rates, over time.

A frame counts where it begins. Charts are made from each chunk's density; where they look closer than that, from
the frames themselves.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from keel.ask.matches import Matches
from keel.ask.parts import Part
from keel.media.every import medium_of
from keel.model.bus import Bus, wire_ns
from keel.model.frames import Rows, Times
from keel.model.span import Span
from keel.model.units import NS_PER_S

SHORTEST_NS = 1_000_000
"""Over a shorter time nothing is said about a load: it would be that of the frames themselves."""
NOT_FOR_THIS = "not for this kind of line"
Floats = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Series:
    """Frames per second and load (0 to 1, or more if the bit rate is wrong) per bus over equal stretches.

    ``rate_hz`` and ``load`` have shape (buses, cells), ``faults``, frames with a fault in each, (cells,).
    """

    span: Span
    rate_hz: Floats
    load: Floats
    faults: Floats


@dataclass(frozen=True)
class BusMean:
    """One bus over a stretch: frames, and the mean load from 0 to 1.

    Attributes:
        mean: None if the stretch is too short to say, or if there is no load.
        has_load: Whether its kind of line has a load.
    """

    frames: int
    mean: float | None
    has_load: bool = True


def cells_for(span: Span, most: int) -> int:
    """Into how many stretches to cut a span for a chart of its load: of a second at least, unless the span is
    short, because a burst within a second is no load."""
    return int(min(max(most, 1), max(span.seconds, 40)))


@dataclass(frozen=True, eq=False)
class _Grid:
    """Densities laid end to end: stretches of buses from ``starts`` to ``ends`` (ns), all of shape (n,)."""

    starts: Times
    ends: Times
    bus: Rows
    frames: Floats
    wire: Floats
    faults: Floats


class Loads:
    """Load over time of growing recordings; the densities of closed chunks are laid end to end once."""

    def __init__(self) -> None:
        self._known: tuple[object, _Grid] | None = None

    def series(self, matches: Matches, span: Span, cells: int) -> Series:
        """Rate and load of the matching frames in ``cells`` equal stretches of a span."""
        buses = matches.snapshot.manifest.buses
        cells = max(cells, 1)
        width = max((span.end - span.start) / cells, 1.0)
        made = _Cells(span, width, len(buses), cells)
        parts = [
            p for p in matches.parts if p.count and p.chunk.span.end >= span.start and p.chunk.span.start < span.end
        ]
        coarse = [p for p in parts if p.chunk.density.width * 2 <= width or _inside(p, span, width)]
        made.spread(self._grid(coarse[:-1], buses))
        made.spread(_grid_of(coarse[-1:], buses))
        chosen = set(coarse)
        for part in parts:
            if part not in chosen:
                made.count(part, buses)
        return Series(span, made.frames / width * NS_PER_S, made.wire / width, made.faults)

    def _grid(self, parts: list[Part], buses: list[Bus]) -> _Grid:
        name = (tuple(parts), tuple(buses))
        if self._known is None or self._known[0] != name:
            self._known = (name, _grid_of(parts, buses))
        return self._known[1]


def _inside(part: Part, span: Span, width: float) -> bool:
    """Whether a chunk lies within one cell, however fine."""
    low, high = (int((t - span.start) // width) for t in (part.chunk.span.start, part.chunk.span.end))
    return low == high


def _grid_of(parts: list[Part], buses: list[Bus]) -> _Grid:
    found: list[tuple[Any, ...]] = []
    for part in parts:
        density, chunk = part.density, part.chunk
        known = density.bus < len(buses)
        place = density.first + density.place[known].astype(np.int64)
        bus, frames, bits, fast_bits, faults = (
            column[known] for column in (density.bus, density.frames, density.bits, density.fast_bits, density.faults)
        )
        # A chunk begins and ends within a stretch; its frames are where it is.
        starts = np.maximum(place * density.width, chunk.span.start)
        ends = np.minimum((place + 1) * density.width, chunk.span.end + 1)
        found.append((starts, ends, bus.astype(np.int64), frames, wire_ns(bus, bits, fast_bits, buses), faults))
    if not found:
        return _Grid(*(np.zeros(0, kind) for kind in (np.int64, np.int64, np.int64, float, float, float)))
    return _Grid(*(np.concatenate(column) for column in zip(*found, strict=True)))


class _Cells:
    """The cells of a chart being filled."""

    def __init__(self, span: Span, width: float, buses: int, cells: int) -> None:
        self.span, self.width, self.cells = span, width, cells
        self.frames, self.wire = np.zeros((buses, cells)), np.zeros((buses, cells))
        self.faults = np.zeros(cells)

    def spread(self, grid: _Grid) -> None:
        """Add stretches, each shared out between the cells it overlaps: two at most, as none is longer than a cell."""
        if not len(grid.starts):
            return
        start = (grid.starts - self.span.start) / self.width
        end = (grid.ends - self.span.start) / self.width
        length = np.maximum(end - start, 1e-12)
        first = np.floor(start)
        share = np.clip((np.minimum(first + 1, end) - start) / length, 0.0, 1.0)
        for cell, part in ((first.astype(np.int64), share), (first.astype(np.int64) + 1, 1.0 - share)):
            inside = (cell >= 0) & (cell < self.cells) & (part > 0)
            self._add(grid.bus[inside], cell[inside], (grid.frames * part)[inside], (grid.wire * part)[inside])
            self.faults += self._binned(cell[inside], (grid.faults * part)[inside])

    def _add(self, bus: Any, cell: Rows, frames: Any, wire: Any) -> None:
        """Add to cells of buses; ``frames`` None is one each."""
        place, size = bus.astype(np.int64) * self.cells + cell, self.frames.size
        self.frames += np.bincount(place, frames, minlength=size).reshape(self.frames.shape)
        self.wire += np.bincount(place, wire, minlength=size).reshape(self.wire.shape)

    def _binned(self, cell: Any, weights: Any = None) -> Floats:
        return np.bincount(cell, weights, minlength=self.cells).astype(np.float64)

    def count(self, part: Part, buses: list[Bus]) -> None:
        """Add the frames of a part themselves, those in the span."""
        chunk = part.chunk
        inside = chunk.in_span(self.span)
        arrivals = np.arange(*inside) if isinstance(inside, tuple) else np.flatnonzero(inside)
        rows = chunk.order[arrivals]
        wanted = part.stored_mask()
        if wanted is not None:
            rows = rows[wanted[rows]]
        stored = chunk.batch
        time, bus = stored.time[rows], stored.bus[rows]
        wire = wire_ns(bus, stored.bits[rows], stored.fast_bits[rows], buses)
        cell = np.minimum(((time - self.span.start) / self.width).astype(np.int64), self.cells - 1)
        self._add(bus, cell, None, wire)
        self.faults += self._binned(cell[stored.faults[rows] != 0])


def bus_means(matches: Matches, span: Span) -> list[BusMean]:
    """Frames and mean load of each bus by the matching frames, exactly; the mean is over ``span``.

    A span ends where its last frame begins: to a short one, where that matters, the time of a frame is added.
    """
    buses = matches.snapshot.manifest.buses
    length = span.end - span.start
    frames, wire = np.zeros(len(buses), np.int64), np.zeros(len(buses))
    for part in matches.parts:
        if not part.count:
            continue
        known = part.summary
        bus = (known.keys >> np.uint64(56)).astype(np.int64)
        np.add.at(frames, bus, known.frames)
        np.add.at(wire, bus, wire_ns(bus, known.bits, known.fast_bits, buses))
    last = wire / np.maximum(frames, 1) if length < NS_PER_S else np.zeros(len(buses))
    has_load = [medium_of(bus).has_load for bus in buses]
    return [
        BusMean(int(count), float(time) / (length + float(more)) if length >= SHORTEST_NS and has else None, has)
        for count, time, more, has in zip(frames, wire, last, has_load, strict=True)
    ]
