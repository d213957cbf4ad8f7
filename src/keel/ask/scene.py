"""What asks over a recording may refer to."""

from __future__ import annotations

from keel.ask.nodes import Scene
from keel.store.recording import Snapshot


def scene_of(snapshot: Snapshot) -> Scene:
    """Buses, message names and time zero of a recording."""
    buses = snapshot.manifest.bus_names
    names = snapshot.manifest.dictionary.by_key(buses)
    return Scene(tuple(buses), tuple((key, m.name) for key, m in names.items()), snapshot.span.start)
