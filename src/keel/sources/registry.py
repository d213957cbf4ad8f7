"""The sources there are. To add one, write its file and name it here."""

from __future__ import annotations

from collections.abc import Callable

from keel.errors import InputError
from keel.sources.bench import BenchSource
from keel.sources.pipe import PipeSource
from keel.sources.source import Source

SOURCES: dict[str, Callable[[int, float], Source]] = {
    "bench": lambda seed, speed: BenchSource(seed, speed),
    "pipe": lambda *_: PipeSource(),
}


def open_source(name: str, seed: int = 1, speed: float = 1.0) -> Source:
    """A source by its name.

    Raises:
        InputError: there is none of that name.
    """
    if name not in SOURCES:
        raise InputError(f"--from {name}", "no such source", ", ".join(SOURCES))
    return SOURCES[name](seed, speed)
