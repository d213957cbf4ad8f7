"""Taking a field out of millions of payloads, compiled: one pass, nothing copied but what comes out."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from keel.model.faults import SPOILS_NOTHING
from keel.model.fields import BitField
from keel.model.frames import FrameBatch, Mask, Rows

_HARMLESS = np.uint64(SPOILS_NOTHING)


@njit(cache=True, nogil=True)
def _take(
    data: Any, offsets: Any, faults: Any, low: Any, pieces: Any, last_byte: Any, sign: Any, raw: Any, there: Any
) -> None:
    for i in range(len(raw)):
        row = low + i
        start = np.int64(offsets[row])
        if faults[row] & ~_HARMLESS or np.int64(offsets[row + 1]) - start <= last_byte:
            raw[i] = 0
            there[i] = False
            continue
        value = np.uint64(0)
        for p in range(len(pieces)):
            part = np.uint64(data[start + pieces[p, 0]]) >> np.uint64(pieces[p, 1]) & np.uint64(pieces[p, 2])
            value |= part << np.uint64(pieces[p, 3])
        if sign:
            value = (value ^ sign) - sign
        raw[i] = np.int64(value)
        there[i] = True


@njit(cache=True, nogil=True)
def _fold(
    values: Any, kind: Any, size: Any, least: Any, most: Any, total: Any, count: Any, absent: Any, wrong: Any
) -> None:
    for b in range(len(least)):
        low, high, summed = np.inf, -np.inf, 0.0
        found, missing, bad = 0, 0, 0
        for i in range(b * size, min((b + 1) * size, len(values))):
            if kind[i] == 0:
                value = values[i]
                low, high = min(low, value), max(high, value)
                summed += value
                found += 1
            elif kind[i] == 1:
                missing += 1
            elif kind[i] == 2:
                bad += 1
        least[b], most[b], total[b] = low, high, summed
        count[b], absent[b], wrong[b] = found, missing, bad


def take(field: BitField, batch: FrameBatch, low: int, high: int) -> tuple[Rows, Mask]:
    """Raw values of a field in rows ``low`` to ``high``, and which rows have it: long enough and without fault."""
    raw, there = np.empty(high - low, np.int64), np.empty(high - low, np.bool_)
    pieces = np.array([(byte, bit, (1 << count) - 1, shift) for byte, bit, count, shift in field.pieces], np.int64)
    sign = np.uint64(1 << (field.length - 1) if field.signed and field.length < 64 else 0)
    _take(batch.data, batch.offsets, batch.faults, low, pieces, field.last_byte, sign, raw, there)
    return raw, there


def fold(values: Any, kind: Any, size: int) -> dict[str, Any]:
    """Blocks of ``size`` values as columns: least, most, total, and counts of each kind.

    Args:
        values: Physical values, shape (n,).
        kind: `Standing` of each, or 3 where there is none at all; shape (n,).
        size: Values a block; the last may be shorter.
    """
    blocks = -(-len(values) // size)
    out = {name: np.empty(blocks) for name in ("least", "most", "total")}
    counts = {name: np.empty(blocks, np.int64) for name in ("count", "absent", "wrong")}
    _fold(values, kind, size, *out.values(), *counts.values())
    return {**out, **counts}
