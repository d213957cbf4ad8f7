"""The drawings: load over time, cycle-time histograms, a candidate field over the marks."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from keel.draw.sheet import BRASS, CORAL, DIM, LINE, SEA, bus_colour, new_sheet, save, words
from keel.hunt.measurements import Points
from keel.measure.cycles import Cycle
from keel.measure.load import Series
from keel.model.bus import Bus
from keel.model.frames import Times
from keel.model.span import Mark, Span
from keel.model.units import NS_PER_S


def draw_load(path: Path, title: str, series: Series, buses: list[Bus], marks: list[Mark], start: int) -> None:
    """The tape on paper: load of each bus over time, faults as ticks, marks as flags. Times from ``start``."""
    figure = new_sheet(height=3.6)
    axes = figure.subplots()
    cells = series.load.shape[1]
    edges = (series.span.edges(cells) - start) / NS_PER_S
    for index, bus in enumerate(buses):
        colour = bus_colour(index)
        axes.stairs(series.load[index] * 100, edges, color=colour, linewidth=1.2, label=words(f"bus {bus.name}"))
        axes.stairs(series.load[index] * 100, edges, fill=True, alpha=0.12, color=colour)
    top = max(float(series.load.max(initial=0)) * 115, 10.0)
    _fault_ticks(axes, series.faults, edges, top)
    _flags(axes, marks, series.span, start, top)
    axes.set_xlim(edges[0], edges[-1])
    axes.set_ylim(0, top)
    axes.set_xlabel("seconds")
    axes.set_ylabel("load, %")
    axes.set_title(words(title))
    axes.grid(axis="y", color=LINE, linewidth=0.5)
    axes.legend(frameon=False, loc="lower right", bbox_to_anchor=(1, 1), ncols=len(buses) + 1)
    save(figure, path)


def _fault_ticks(axes: Any, faults: Any, edges: Any, top: float) -> None:
    cells = faults.nonzero()[0]
    if len(cells):
        middles = (edges[cells] + edges[cells + 1]) / 2
        axes.vlines(middles, top * 0.94, top, color=CORAL, linewidth=0.8, label="faults")


def _flags(axes: Any, marks: list[Mark], span: Span, start: int, top: float) -> None:
    for mark in marks:
        if span.start <= mark.time < span.end:
            at = (mark.time - start) / NS_PER_S
            axes.axvline(at, color=BRASS, linewidth=0.8)
            axes.text(at, top * 0.98, f" {mark.number}", color=BRASS, va="top", fontsize=8)


def draw_cycles(path: Path, title: str, cycles: list[tuple[str, int, Cycle]]) -> None:
    """Histograms of cycle times, one for each identifier: (name, bus index, cycle)."""
    count = max(len(cycles), 1)
    columns = 1 if count == 1 else 2 if count <= 4 else 3
    rows = -(-count // columns)
    figure = new_sheet(10.0, 3.6 if rows == 1 else 2.2 * rows)
    grid = figure.subplots(rows, columns, squeeze=False)
    for axes in grid.flat[len(cycles) :]:
        axes.set_axis_off()
    for axes, (name, bus, cycle) in zip(grid.flat, cycles, strict=False):
        edges = np.linspace(cycle.low, cycle.high, len(cycle.counts) + 1) / 1e6
        axes.stairs(cycle.counts, edges, fill=True, color=bus_colour(bus), alpha=0.85)
        axes.axvline(cycle.usual / 1e6, color=BRASS, linewidth=1)
        axes.set_title(words(f"{name}: {cycle.usual / 1e6:.2f} ms, {cycle.state}"))
        axes.set_xlabel(f"cycle time, ms; longest {cycle.gap / 1e6:.1f}")
        axes.set_ylabel("frames")
    figure.suptitle(words(title), x=0.01, ha="left", color=DIM, fontsize=9)
    save(figure, path)


def draw_candidate(
    path: Path,
    title: str,
    why: str,
    times: Times,
    values: Any,
    spans: Sequence[Span],
    window: Span,
    start: int,
    points: Points | None = None,
) -> None:
    """A candidate's value over time, with the marked spans behind it and what was read before it."""
    figure = new_sheet(height=3.6)
    axes = figure.subplots()
    for span in spans:
        axes.axvspan((span.start - start) / NS_PER_S, (span.end - start) / NS_PER_S, color=BRASS, alpha=0.18, lw=0)
    axes.step((times - start) / NS_PER_S, values, where="post", color=SEA, linewidth=1.2)
    if points is not None:
        axes.plot((points.times - start) / NS_PER_S, points.values, "o", color=BRASS, markersize=4)
    axes.set_xlim((window.start - start) / NS_PER_S, (window.end - start) / NS_PER_S)
    axes.set_xlabel("seconds" + ("; marked spans shaded" if spans else "; dots are what was read" if points else ""))
    axes.set_ylabel("raw value" if points is None else "value")
    axes.set_title(words(title))
    axes.text(0.0, -0.24, words(why), transform=axes.transAxes, color=DIM, fontsize=8)
    axes.grid(axis="y", color=LINE, linewidth=0.5)
    save(figure, path)
