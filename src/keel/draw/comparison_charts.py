"""Drawings of a comparison: the load of both sides, and signals of both over each other, in the first one's time."""

from __future__ import annotations

import io
from typing import Any

import numpy as np

from keel.compare.difference import message_of
from keel.compare.differences import Comparison
from keel.compare.sides import Side
from keel.draw.sheet import BRASS, LINE, SEA, new_sheet, words
from keel.measure.courses import Courses
from keel.measure.load import Loads, cells_for
from keel.model.units import NS_PER_S

COLUMNS = 600
MOST_SIGNALS = 6


def drawings_of(found: Comparison) -> list[tuple[str, str]]:
    """What goes into a report: (title, SVG)."""
    made = [("Load, in the time of this side", _svg(_loads(found)))]
    seen: set[tuple[int, str]] = set()
    for difference in found.differences:
        name = (difference.key or 0, difference.signal)
        if difference.key is None or not difference.signal or name in seen:
            continue
        figure = _signal(found, difference.key, difference.signal)
        if figure is not None:
            seen.add(name)
            made.append((f"{found.name(difference.key)}.{difference.signal}", _svg(figure)))
        if len(seen) >= MOST_SIGNALS:
            break
    return made


def _svg(figure: Any) -> str:
    out = io.StringIO()
    figure.savefig(out, format="svg", metadata={"Date": None, "Creator": "Keel"})
    return out.getvalue()


def _times(found: Comparison, side: Side, edges: Any) -> Any:
    """Edges in seconds of the first side's time."""
    shift = 0 if side is found.a else found.alignment.offset_ns
    return (edges[:-1] + shift - found.a.zero) / NS_PER_S


def _loads(found: Comparison) -> Any:
    names = found.a.snapshot.manifest.bus_names
    figure = new_sheet(10.0, 1.0 + 1.4 * len(names))
    strips = figure.subplots(len(names), 1, sharex=True, squeeze=False)[:, 0]
    for side, colour, label in ((found.a, SEA, "this"), (found.b, BRASS, "other")):
        series = Loads().series(side.matches, side.span, cells_for(side.span, 300))
        edges = side.span.edges(series.load.shape[1])
        for place, (axes, bus) in enumerate(zip(strips, names, strict=True)):
            there = place if side is found.a else found.buses.to_b(place << 56)
            if there is not None:
                index = there if side is found.a else there >> 56
                axes.step(
                    _times(found, side, edges), series.load[index] * 100, where="post", color=colour, linewidth=1.0,
                    label=label,
                )  # fmt: skip
            axes.set_title(words(f"bus {bus}"))
            axes.set_ylabel("load, %")
            axes.grid(axis="y", color=LINE, linewidth=0.5)
    strips[0].legend(frameon=False, loc="lower right", bbox_to_anchor=(1, 1), ncols=2)
    strips[-1].set_xlabel("seconds of this side")
    return figure


def _signal(found: Comparison, key: int, name: str) -> Any:
    there = found.buses.to_b(key)
    figure = new_sheet(10.0, 2.6)
    axes = figure.subplots()
    drawn = False
    for side, at, colour, label in ((found.a, key, SEA, "this"), (found.b, there, BRASS, "other")):
        message = message_of(found.both, key)
        signal = message.signal(name) if message else None
        if at is None or message is None or signal is None:
            continue
        envelope = Courses().envelope(side.matches, at, message, signal, side.span, COLUMNS)
        has = np.isfinite(envelope.least)
        x = _times(found, side, envelope.edges)[has]
        axes.fill_between(x, envelope.least[has], envelope.most[has], color=colour, alpha=0.25, lw=0, step="post")
        axes.step(x, envelope.last[has], where="post", color=colour, linewidth=1.0, label=label)
        axes.set_ylabel(words(signal.unit))
        drawn = True
    axes.set_xlabel("seconds of this side")
    axes.grid(axis="y", color=LINE, linewidth=0.5)
    axes.legend(frameon=False, loc="lower right", bbox_to_anchor=(1, 1), ncols=2)
    return figure if drawn else None
