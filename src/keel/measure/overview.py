"""A recording at a glance: its buses, its faults, its traffic over time in a few cells."""

from __future__ import annotations

from dataclasses import dataclass

from keel.ask.language import parse
from keel.ask.matches import Matcher
from keel.ask.nodes import Scene
from keel.measure.load import Loads
from keel.store.recording import Snapshot


@dataclass(frozen=True)
class Overview:
    """What a list of recordings shows of one.

    Attributes:
        buses: Their names.
        rates: Frames a second in equal stretches of its time, of all buses together.
        faults: How many frames are faulty.
        faulty: Which of the stretches hold a faulty frame.
    """

    buses: tuple[str, ...]
    rates: tuple[float, ...]
    faults: int
    faulty: tuple[bool, ...]


def overview(snapshot: Snapshot, cells: int) -> Overview:
    """A recording at a glance; from the indexes of its segments, without a frame being read."""
    buses = tuple(snapshot.manifest.bus_names)
    if not snapshot.frames:
        return Overview(buses, (0.0,) * cells, 0, (False,) * cells)
    series = Loads().series(Matcher(parse(""), Scene()).run(snapshot), snapshot.span, cells)
    rates = series.rate_hz.sum(axis=0)
    return Overview(
        buses,
        tuple(float(rate) for rate in rates),
        round(float(series.faults.sum())),
        tuple(bool(count) for count in series.faults),
    )
