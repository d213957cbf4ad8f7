"""Payloads by identifier, as the hunt needs them: times and a matrix of bytes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from keel.ask.matches import Matches
from keel.model.frames import Bytes, FrameBatch, Rows, Times

MOST_FRAMES = 200_000
"""Of an identifier with more frames, every second, third and so on is looked at."""
BLOCKS, BLOCK_FRAMES = 8, 4_000
"""Its structure is then seen from so many blocks of frames one after another."""


@dataclass(frozen=True, eq=False)
class Column:
    """The frames of one identifier without fault that have its usual length: times (n,) and payloads (n, bytes).

    ``every`` is 1 for all frames, 2 for each second one, and so on; ``blocks`` are then frames one after another.
    """

    key: int
    times: Times
    payloads: Bytes
    every: int = 1
    blocks: Bytes | None = None

    @property
    def consecutive(self) -> Bytes:
        """Payloads one after another, none left out but between blocks; shape (m, bytes)."""
        return self.payloads if self.blocks is None else self.blocks


def gather(
    matches: Matches, only: int | None = None, most: int = MOST_FRAMES, together: int = BLOCK_FRAMES
) -> dict[int, Column]:
    """Columns of the matching frames by key, ascending; of one key alone if ``only`` is given.

    Args:
        matches: The frames to search.
        only: A key.
        most: Of how many frames each identifier's column has at most.
        together: Of how many frames a block has, of identifiers with more.
    """
    counts: dict[int, int] = {}
    for part in matches.parts:
        for key, found in part.each_run() if part.count else ():
            if only is None or key == only:
                size = found.stop - found.start if isinstance(found, slice) else len(found)
                counts[key] = counts.get(key, 0) + size
    taken: dict[int, list[tuple[Times, Bytes]]] = {key: [] for key in counts}
    blocks: dict[int, list[tuple[Times, Bytes]]] = {key: [] for key in counts}
    passed = dict.fromkeys(counts, 0)
    for part in matches.parts:
        batch = part.chunk.batch
        for key, found in part.each_run() if part.count else ():
            if key not in counts:
                continue
            every = -(-counts[key] // most)
            size = found.stop - found.start if isinstance(found, slice) else len(found)
            first = passed[key]
            passed[key] += size
            if every == 1:
                rows = np.arange(found.start, found.stop) if isinstance(found, slice) else found
                taken[key].append(_read(batch, rows))
                continue
            chosen = np.arange(-first % every, size, every)
            taken[key].append(_read(batch, found.start + chosen if isinstance(found, slice) else found[chosen]))
            for begin in np.linspace(0, counts[key] - together, BLOCKS).astype(np.int64).tolist():
                low, high = max(begin - first, 0), min(begin + together - first, size)
                if low < high:
                    inside = np.arange(low, high)
                    blocks[key].append(
                        _read(batch, found.start + inside if isinstance(found, slice) else found[inside])
                    )
    columns = {}
    for key in sorted(taken):
        width = _usual_width([p for _, p in taken[key]])
        if width is None:
            continue
        times, payloads = _join(taken[key], width)
        every = -(-counts[key] // most)
        columns[key] = Column(key, times, payloads, every, _join(blocks[key], width)[1] if every > 1 else None)
    return columns


def _read(batch: FrameBatch, rows: Rows) -> tuple[Times, Bytes]:
    """Times and payloads of rows without fault, of the length most of them have."""
    rows = rows[batch.is_good(rows)]
    lengths = (batch.offsets[rows + 1] - batch.offsets[rows]).astype(np.int64)
    if not len(rows):
        return np.zeros(0, np.int64), np.zeros((0, 0), np.uint8)
    sizes, counts = np.unique(lengths, return_counts=True)
    width = int(sizes[counts.argmax()])
    rows = rows[lengths == width]
    at = batch.offsets[rows].astype(np.int64)[:, None] + np.arange(width)
    return batch.time[rows], batch.data[at]


def _usual_width(payloads: list[Bytes]) -> int | None:
    """The payload length of most frames."""
    counts: dict[int, int] = {}
    for one in payloads:
        if len(one):
            counts[one.shape[1]] = counts.get(one.shape[1], 0) + len(one)
    return max(counts, key=lambda width: counts[width]) if counts else None


def _join(parts: list[tuple[Times, Bytes]], width: int) -> tuple[Times, Bytes]:
    kept = [(t, p) for t, p in parts if len(t) and p.shape[1] == width]
    if not kept:
        return np.zeros(0, np.int64), np.zeros((0, width), np.uint8)
    times, payloads = np.concatenate([t for t, _ in kept]), np.concatenate([p for _, p in kept])
    if len(times) > 1 and (np.diff(times) < 0).any():
        order = np.argsort(times, kind="stable")
        times, payloads = times[order], payloads[order]
    return times, payloads


def flips(column: Column, edges: Times) -> Bytes:
    """Which bits changed in which stretch of time.

    Args:
        column: The identifier's frames.
        edges: Bounds of the stretches, ascending, shape (m + 1,).

    Returns:
        Shape (8 × bytes, m), 1 where the bit changed at least once; row b is bit b.
    """
    stretches = len(edges) - 1
    bits = column.payloads.shape[1] * 8
    found = np.zeros((bits, stretches), np.uint8)
    if len(column.times) < 2 or not bits:
        return found
    moved = column.payloads[1:] ^ column.payloads[:-1]
    stretch: Rows = np.searchsorted(edges, column.times[1:], side="right") - 1
    inside = (stretch >= 0) & (stretch < stretches)
    moved, stretch = moved[inside], stretch[inside]
    if not len(stretch):
        return found
    if (np.diff(stretch) < 0).any():
        order = np.argsort(stretch, kind="stable")
        moved, stretch = moved[order], stretch[order]
    starts = np.concatenate([[0], np.flatnonzero(np.diff(stretch)) + 1])
    merged = np.bitwise_or.reduceat(moved, starts, axis=0)
    found[:, stretch[starts]] = np.unpackbits(merged, axis=1, bitorder="little").T
    return found


def flip_shares(column: Column, edges: Times) -> np.ndarray[tuple[int, int], np.dtype[np.float64]]:
    """How often each bit changed in each stretch, as a share of its frames; shape (m, 8 × bytes)."""
    stretches = len(edges) - 1
    shares = np.zeros((stretches, column.payloads.shape[1] * 8))
    if len(column.times) < 2:
        return shares
    places = np.searchsorted(column.times[1:], edges)
    moved = column.payloads[1:] ^ column.payloads[:-1]
    for i, (low, high) in enumerate(zip(places[:-1], places[1:], strict=True)):
        if high > low:
            shares[i] = np.unpackbits(moved[low:high], axis=1, bitorder="little").mean(axis=0)
    return shares
