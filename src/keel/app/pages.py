"""Frames by the page: what a screen of them needs, fetched by rank and touching nothing else."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from keel.app.desk import Picture
from keel.model.frames import Bytes, FrameBatch, Times, concat


@dataclass(frozen=True)
class Page:
    """The frames on the screen: numbers, columns, and time differences in ns (-1 for none)."""

    top: int
    numbers: Times
    batch: FrameBatch
    since_shown: Times
    since_same: Times
    before: list[bytes | None]


def fetch(picture: Picture, top: int, count: int) -> Page:
    """A page of the matches, by rank. Touches only what it shows."""
    numbers = picture.matches.numbers(max(top - 1, 0), top + count)
    extra = 1 if top > 0 and len(numbers) else 0
    parts: list[FrameBatch] = []
    same: list[Times] = []
    before: list[bytes | None] = []
    for chunk in picture.snapshot.chunks:
        here = numbers[(numbers >= chunk.first) & (numbers < chunk.first + len(chunk))]
        if not len(here):
            continue
        rows = chunk.order[here - chunk.first].astype(np.int64)
        parts.append(chunk.batch.take(rows))
        same.append(chunk.since_same_key(rows))
        starts = set(chunk.run_starts.tolist())
        before += [None if row in starts else chunk.batch.payload(row - 1) for row in rows.tolist()]
    batch = concat(parts)
    steps = np.diff(batch.time, prepend=batch.time[:1])
    if not extra and len(steps):
        steps[0] = -1
    since = np.concatenate(same) if same else steps
    return Page(top, numbers[extra:], batch.slice(extra, len(batch)), steps[extra:], since[extra:], before[extra:])


def recent(picture: Picture, number: int, most: int = 60) -> tuple[Times, Bytes]:
    """Times and payloads of a frame and those of its identifier before it in the same chunk, oldest first."""
    for chunk in picture.snapshot.chunks:
        arrival = number - chunk.first
        if 0 <= arrival < len(chunk):
            row = int(chunk.order[arrival])
            run = int(np.searchsorted(chunk.run_starts, row, side="right")) - 1
            low = max(int(chunk.run_starts[run]), row + 1 - most)
            width = int(chunk.batch.offsets[row + 1] - chunk.batch.offsets[row])
            return chunk.batch.time[low : row + 1], chunk.batch.matrix(low, row + 1, width)
    raise IndexError(number)


def next_fault(picture: Picture, here: int, forward: bool) -> int | None:
    """The number of the nearest faulty match on one side of a frame."""
    parts = picture.matches.parts if forward else tuple(reversed(picture.matches.parts))
    for part in parts:
        chunk = part.chunk
        faulty = chunk.batch.faults != 0
        if not part.count or not faulty.any():
            continue
        numbers = np.flatnonzero(faulty[chunk.order] & part.mask()) + chunk.first
        numbers = numbers[numbers > here] if forward else numbers[numbers < here]
        if len(numbers):
            return int(numbers[0] if forward else numbers[-1])
    return None
