"""Payloads by identifier, as the hunt needs them: times and a matrix of bytes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from keel.ask.matches import Matches
from keel.model.frames import Bytes, Rows, Times


@dataclass(frozen=True, eq=False)
class Column:
    """The frames of one identifier without fault that have its usual length: times (n,) and payloads (n, bytes)."""

    key: int
    times: Times
    payloads: Bytes

    @property
    def unbroken(self) -> int:
        """How many of the first frames follow each other without one left out."""
        return len(self.times)


def gather(matches: Matches, only: int | None = None) -> dict[int, Column]:
    """Columns of the matching frames by key, ascending; of one key alone if ``only`` is given."""
    times: dict[int, list[Times]] = {}
    payloads: dict[int, list[Bytes]] = {}
    for part in matches.parts:
        batch = part.chunk.batch
        for key, found in part.each_run() if part.count else ():
            if only is not None and key != only:
                continue
            rows = np.arange(found.start, found.stop) if isinstance(found, slice) else found
            rows = rows[batch.faults[rows] == 0]
            if not len(rows):
                continue
            lengths = (batch.offsets[rows + 1] - batch.offsets[rows]).astype(np.int64)
            width = int(lengths.max())
            rows = rows[lengths == width]
            times.setdefault(key, []).append(batch.time[rows])
            at = batch.offsets[rows].astype(np.int64)[:, None] + np.arange(width)
            payloads.setdefault(key, []).append(batch.data[at])
    return {key: _join(key, times[key], payloads[key]) for key in sorted(times)}


def _join(key: int, times: list[Times], payloads: list[Bytes]) -> Column:
    width = max(p.shape[1] for p in payloads)
    kept = [i for i, p in enumerate(payloads) if p.shape[1] == width]
    return Column(key, np.concatenate([times[i] for i in kept]), np.concatenate([payloads[i] for i in kept]))


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
