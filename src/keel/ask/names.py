"""What asks over a recording may refer to."""

from __future__ import annotations

import numpy as np

from keel.ask.nodes import Scene
from keel.probe.crossings import Crossings
from keel.store.recording import Snapshot


def names_of(snapshot: Snapshot) -> dict[int, str]:
    """The names of the identifiers of a recording that have one, by key."""
    return {key: m.name for key, m in snapshot.book.messages(keys_of(snapshot)).items()}


def keys_of(snapshot: Snapshot) -> list[int]:
    """The identifiers of a recording, ascending."""
    found = [chunk.keys for chunk in snapshot.chunks]
    keys: list[int] = np.unique(np.concatenate(found)).tolist() if found else []
    return keys


def scene_of(snapshot: Snapshot) -> Scene:
    """Buses, their media, message names, time zero and channels of a recording."""
    media = frozenset(bus.medium for bus in snapshot.manifest.buses)
    channels = tuple(entry.name for entry in snapshot.manifest.waveforms if entry.is_channel)
    crossings = Crossings(snapshot) if channels else None
    return Scene(tuple(snapshot.manifest.bus_names), snapshot.book, snapshot.zero, media, channels, crossings)
