"""What people read off a device's own display, as they type it or load it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from keel.hunt.files import read_points
from keel.store.manifest import Manifest, Reading


def reading_in(time: int, text: str, of: str, start: int) -> Callable[[Manifest], None]:
    """The change that notes what a device displayed: a number at a time, those of a file, or none any more.

    Args:
        time: When, in ns.
        text: A number, a path, or nothing.
        of: What was read.
        start: Time zero of times in a file, in ns.

    Raises:
        ValueError: it is neither a number nor a file of times and values.
    """
    text = text.strip()
    if not text:

        def forget(manifest: Manifest) -> None:
            manifest.readings = [r for r in manifest.readings if r.of != of]

        return forget
    try:
        number = float(text.replace(",", "."))
    except ValueError:
        return _readings_of(Path(text).expanduser(), of, start)

    def note(manifest: Manifest) -> None:
        kept = [r for r in manifest.readings if (r.of, r.time) != (of, time)]
        manifest.readings = [*kept, Reading(time, number, of)]

    return note


def _readings_of(path: Path, of: str, start: int) -> Callable[[Manifest], None]:
    points = read_points(path, start)

    def load(manifest: Manifest) -> None:
        more = [Reading(int(t), float(v), of) for t, v in zip(points.times, points.values, strict=True)]
        manifest.readings = [*(r for r in manifest.readings if r.of != of), *more]

    return load
