"""Payloads by identifier, as the hunt needs them: times and a matrix of bytes."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from keel.ask.matches import Matches
from keel.model.frames import Bytes, FrameBatch, Mask, Rows, Times

MOST_FRAMES = 200_000
"""Of an identifier with more frames, every second, third and so on is looked at."""
WIDEST = 256
"""Of longer payloads the first so many bytes are looked at."""
BLOCKS, BLOCK_FRAMES = 8, 4_000
"""Its structure is then seen from so many blocks of frames one after another."""


@dataclass(frozen=True, eq=False)
class Column:
    """The frames of one identifier without fault that have its usual length.

    Attributes:
        times, payloads: Shapes (n,) and (n, bytes); of long payloads the first `WIDEST` bytes.
        every: 1 for all frames, 2 for each second one, and so on.
        blocks: Where frames are left out, payloads of frames one after another.
        header: Their headers, shape (n, bytes); None if they have none.
        length: How many bytes the payloads have.
    """

    key: int
    times: Times
    payloads: Bytes
    every: int = 1
    blocks: Bytes | None = None
    header: Bytes | None = None
    length: int = 0

    def part(self, rows: Mask | slice) -> Column:
        """Some of its frames, without blocks."""
        header = None if self.header is None else self.header[rows]
        return replace(self, times=self.times[rows], payloads=self.payloads[rows], header=header, blocks=None)

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
    taken: dict[int, list[_Rows]] = {key: [] for key in counts}
    blocks: dict[int, list[_Rows]] = {key: [] for key in counts}
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
        length = _usual_length(taken[key])
        if length is None:
            continue
        times, payloads, header = _join(taken[key], length)
        every = -(-counts[key] // most)
        columns[key] = Column(
            key, times, payloads, every, _join(blocks[key], length)[1] if every > 1 else None, header, length
        )
    return columns


class _Rows(NamedTuple):
    """Frames of one length: times (n,), the first bytes of payloads and the headers (n, bytes)."""

    times: Times
    payloads: Bytes
    header: Bytes | None
    length: int


def _read(batch: FrameBatch, rows: Rows) -> _Rows:
    """Rows without fault, of the length most of them have."""
    rows = rows[batch.is_good(rows)]
    lengths = (batch.offsets[rows + 1] - batch.offsets[rows]).astype(np.int64)
    if not len(rows):
        return _Rows(np.zeros(0, np.int64), np.zeros((0, 0), np.uint8), None, 0)
    sizes, counts = np.unique(lengths, return_counts=True)
    length = int(sizes[counts.argmax()])
    rows = rows[lengths == length]
    at = batch.offsets[rows].astype(np.int64)[:, None] + np.arange(min(length, WIDEST))
    return _Rows(batch.time[rows], batch.data[at], None if batch.header is None else batch.header[rows], length)


def _usual_length(parts: list[_Rows]) -> int | None:
    """The payload length of most frames."""
    counts: dict[int, int] = {}
    for one in parts:
        if len(one.times):
            counts[one.length] = counts.get(one.length, 0) + len(one.times)
    return max(counts, key=lambda length: counts[length]) if counts else None


def _join(parts: list[_Rows], length: int) -> tuple[Times, Bytes, Bytes | None]:
    """The frames of a length in order of time."""
    kept = [part for part in parts if len(part.times) and part.length == length]
    if not kept:
        return np.zeros(0, np.int64), np.zeros((0, min(length, WIDEST)), np.uint8), None
    times, payloads = np.concatenate([one.times for one in kept]), np.concatenate([one.payloads for one in kept])
    header = _joined_headers(kept)
    if len(times) > 1 and (np.diff(times) < 0).any():
        order = np.argsort(times, kind="stable")
        times, payloads = times[order], payloads[order]
        header = None if header is None else header[order]
    return times, payloads, header


def _joined_headers(parts: list[_Rows]) -> Bytes | None:
    """The headers of parts, which may be stored at several widths; None if none has any."""
    width = max((one.header.shape[1] for one in parts if one.header is not None), default=0)
    if not width:
        return None
    joined = np.zeros((sum(len(one.times) for one in parts), width), np.uint8)
    at = 0
    for one in parts:
        if one.header is not None:
            joined[at : at + len(one.times), : one.header.shape[1]] = one.header
        at += len(one.times)
    return joined


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
