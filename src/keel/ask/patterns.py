"""Looking into payloads: byte patterns, texts, and what changed. Compiled where that is loaded, else NumPy."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from keel.model.accelerated import accelerated
from keel.model.frames import Bytes, FrameBatch, Mask, Rows

BLOCK_BYTES = 1 << 24
Pattern = tuple[int | None, ...]


@accelerated("keel.ask.scanning")
def find_pattern(
    data: Bytes, offsets: npt.NDArray[Any], pattern: Pattern, at: int | None = None, fold: bool = False
) -> Mask:
    """Which of some payloads hold a pattern.

    Args:
        data: Payloads end to end.
        offsets: Where each begins, and the last ends; shape (n + 1,).
        pattern: Bytes; None is any byte.
        at: Where in the payload it must begin; None for anywhere.
        fold: ASCII letters match whatever their case.

    Returns:
        Shape (n,).
    """
    found = np.zeros(len(offsets) - 1, np.bool_)
    size = len(pattern)
    if not len(found):
        return found
    low, high = int(offsets[0]), int(offsets[-1])
    if fold:
        pattern = tuple(None if b is None else b + 32 if 65 <= b <= 90 else b for b in pattern)
    if at is not None:
        start = offsets[:-1].astype(np.int64) + at
        inside = np.flatnonzero(start + size <= offsets[1:])
        for i, byte in enumerate(pattern):
            if byte is not None and len(inside):
                inside = inside[_folded(data[start[inside] + i], fold) == byte]
        found[inside] = True
        return found
    # In blocks, so that what is in between stays small; blocks overlap by the pattern.
    for begin in range(low, high - size + 1, BLOCK_BYTES):
        end = min(begin + BLOCK_BYTES + size - 1, high)
        block = _folded(data[begin:end], fold)
        hits = np.ones(len(block) - size + 1, np.bool_)
        for i, byte in enumerate(pattern):
            if byte is not None:
                hits &= block[i : len(block) - size + 1 + i] == byte
        places = np.flatnonzero(hits) + begin
        rows = np.searchsorted(offsets, places, side="right") - 1
        found[rows[places + size <= offsets[rows + 1]]] = True
    return found


def _folded(data: Bytes, fold: bool) -> Bytes:
    return np.where((data >= 65) & (data <= 90), data + np.uint8(32), data) if fold else data


def moved_rows(batch: FrameBatch, rows: Rows, byte: int | None) -> Mask:
    """Whether the payload, or one byte of it, differs from that of the row before, for all ``rows`` but the first.

    A byte that one of the two lacks differs.
    """
    offsets = batch.offsets
    starts = offsets[rows].astype(np.int64)
    sizes = offsets[rows + 1].astype(np.int64) - starts
    if byte is not None:
        there = sizes > byte
        values = np.full(len(rows), -1, np.int16)
        values[there] = batch.data[starts[there] + byte]
        differs: Mask = np.diff(values) != 0
        return differs
    moved: Mask = np.diff(sizes) != 0
    width = int(sizes.max())
    step = max(BLOCK_BYTES // max(width, 1), 1)
    for low in range(0, len(rows) - 1, step):
        high = min(low + step, len(rows) - 1)
        at = starts[low : high + 1, None] + np.arange(width)
        inside = at < (starts + sizes)[low : high + 1, None]
        if width:
            payloads = np.where(inside, batch.data[np.minimum(at, len(batch.data) - 1)], np.uint8(0))
            moved[low:high] |= (payloads[1:] != payloads[:-1]).any(axis=1)
    return moved
