"""Bit rates that nobody named: raised where the load would else be more than a bus can carry."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace
from pathlib import Path

import numpy as np

from keel.ask.language import parse
from keel.ask.matches import Matcher
from keel.ask.names import scene_of
from keel.measure.load import Loads, cells_for
from keel.media.every import medium_of
from keel.store.manifest import edit_manifest
from keel.store.recording import Recording, Snapshot

CELLS = 2_000
FULL = 1.0
"""A load beyond this there is not."""


def likely_rates(snapshot: Snapshot, named: Collection[str] = ()) -> dict[int, int]:
    """The bit rates of buses that must run faster than is assumed, by bus index.

    Args:
        snapshot: The recording.
        named: Names of buses whose rate is known.

    Returns:
        The slowest usual rate at which each second fits, where the assumed one is too slow. Buses of a medium without
        usual rates, and those that no usual rate fits, are not in it.
    """
    if not snapshot.frames:
        return {}
    scene = scene_of(snapshot)
    matches = Matcher(parse("", scene), scene).run(snapshot)
    load = Loads().series(matches, snapshot.span, cells_for(snapshot.span, CELLS)).load
    found = {}
    for place, bus in enumerate(snapshot.manifest.buses):
        most = float(np.max(load[place], initial=0.0))
        if most > FULL and bus.name not in named:
            faster = [rate for rate in medium_of(bus).rates if most * bus.bit_rate / rate <= FULL]
            if faster:
                found[place] = faster[0]
    return found


def settle_rates(folder: Path, named: Collection[str] = ()) -> list[str]:
    """Write down the `likely_rates` of a recording; gives back a sentence on each."""
    snapshot = Recording(folder).snapshot()
    rates = likely_rates(snapshot, named)
    if not rates:
        return []
    said = []
    with edit_manifest(folder) as manifest:
        for place, rate in rates.items():
            bus = manifest.buses[place]
            said.append(f"bus {bus.name}: at {bit_rate(bus.bit_rate)} it would be overfull; taken for {bit_rate(rate)}")
            manifest.buses[place] = replace(bus, bit_rate=rate)
        manifest.notes += said
    return said


def bit_rate(rate: int) -> str:
    """A bit rate as people write it."""
    return f"{rate / 1e6:g} Mbit/s" if rate >= 1_000_000 else f"{rate / 1e3:g} kbit/s"
