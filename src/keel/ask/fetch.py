"""The matching frames themselves, so many at a time; nothing else is read."""

from __future__ import annotations

import numpy as np

from keel.ask.matches import Matches
from keel.model.frames import FrameBatch, concat


def frames_at(matches: Matches, start: int, stop: int) -> FrameBatch:
    """Matches ``start`` to ``stop`` as columns."""
    numbers = matches.numbers(start, stop)
    snapshot = matches.snapshot
    parts = []
    while len(numbers):
        chunk = snapshot.chunks[snapshot.chunk_of(int(numbers[0]))]
        here = int(np.searchsorted(numbers, chunk.first + len(chunk)))
        parts.append(chunk.batch.take(chunk.order[numbers[:here] - chunk.first]))
        numbers = numbers[here:]
    return concat(parts)
