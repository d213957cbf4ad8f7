"""What people read off a device's own display, as they type it or load it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from keel.app.desk import edits

if TYPE_CHECKING:
    from keel.app.desk.deeds import Plan


def number_in(text: str) -> float | None:
    """The number that was typed; None if it is none."""
    try:
        return float(text.replace(",", "."))
    except ValueError:
        return None


def reading(time: int, number: float, of: str) -> Plan:
    """Note what a device displayed at a time, in ns; ``of`` is what was read."""
    from keel.store.manifest import Reading

    return edits.readings(of, [Reading(time, number, of)], instead=False)


def no_readings(of: str) -> Plan:
    """Forget all readings of something."""
    return edits.readings(of, [], instead=True)


def readings_of_file(path: Path, of: str, start: int) -> Plan:
    """The readings of a file instead of those there are; reads the file, so not on the interface thread.

    Args:
        path: A file of times and values.
        of: What was read.
        start: Time zero of the times, in ns.

    Raises:
        InputError: it is no such file.
    """
    from keel.hunt.files import read_points
    from keel.store.manifest import Reading

    points = read_points(path, start)
    found = [Reading(int(t), float(v), of) for t, v in zip(points.times, points.values, strict=True)]
    return edits.readings(of, found, instead=True)
