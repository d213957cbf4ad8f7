"""Clustering, compiled: what the recorder and imports use. `keel.store.chunk.cluster` does the same in NumPy, for the
app, which is not to wait for compiled code to load."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from keel.model.frames import COLUMNS, FrameBatch
from keel.model.words64 import load_word, store_word
from keel.store.chunk import Clustered


@njit(cache=True, nogil=True)
def _codes(keys: Any, codes: Any, unique: Any) -> int:
    """Number the different keys in order of appearance; returns how many there are."""
    size = 1024
    while size < 2 * len(unique):
        size *= 2
    table = np.full(size, -1, np.int64)
    mask = np.uint64(size - 1)
    found = 0
    last_key = np.uint64(0)
    last_code = np.int64(-1)
    for i in range(len(keys)):
        key = keys[i]
        if last_code >= 0 and key == last_key:
            codes[i] = last_code
            continue
        # Fibonacci hashing: the golden ratio's bits spread neighbouring identifiers.
        slot = (key * np.uint64(0x9E3779B97F4A7C15)) >> np.uint64(40) & mask
        while table[slot] >= 0 and unique[table[slot]] != key:
            slot = (slot + np.uint64(1)) & mask
        if table[slot] < 0:
            table[slot] = found
            unique[found] = key
            found += 1
        codes[i] = table[slot]
        last_key, last_code = key, codes[i]
    return found


@njit(cache=True, nogil=True)
def _place(codes: Any, rank: Any, starts: Any, order: Any, stored: Any) -> None:
    """Counting sort, stable: where each frame goes, and which frame came there."""
    at = starts.copy()
    for i in range(len(codes)):
        run = rank[codes[i]]
        place = at[run]
        at[run] += 1
        order[i] = place
        stored[place] = i


@njit(cache=True, nogil=True)
def _gather(columns: Any, offsets: Any, data: Any, arrival: Any, out: Any, new: Any, payloads: Any) -> None:
    """Every column in one go: the source rows of one identifier follow each other, so memory is read in streams."""
    time, bus, form, ident, flags, faults, dlc, bits, fast_bits = columns
    to_time, to_bus, to_form, to_ident, to_flags, to_faults, to_dlc, to_bits, to_fast_bits = out
    at = 0
    for i in range(len(arrival)):
        row = arrival[i]
        to_time[i], to_bus[i], to_form[i], to_ident[i] = time[row], bus[row], form[row], ident[row]
        to_flags[i], to_faults[i], to_dlc[i] = flags[row], faults[row], dlc[row]
        to_bits[i], to_fast_bits[i] = bits[row], fast_bits[row]
        start = offsets[row]
        size = offsets[row + 1] - start
        new[i] = at
        if size == 8 and start + 8 <= len(data):
            store_word(payloads, at, load_word(data, start))
        elif start + size + 8 <= len(data) and at + size + 8 <= len(payloads):
            # What is written beyond the end of a payload is overwritten by the next one.
            for k in range(0, size, 8):
                store_word(payloads, at + k, load_word(data, start + k))
        else:
            for k in range(size):
                payloads[at + k] = data[start + k]
        at += size
    new[len(arrival)] = at


def cluster(batch: FrameBatch) -> Clustered:
    """As `keel.store.chunk.cluster`."""
    keys = batch.keys()
    n = len(batch)
    codes, seen = np.empty(n, np.int64), np.empty(n, np.uint64)
    found = int(_codes(keys, codes, seen))
    by_key = np.argsort(seen[:found])
    rank = np.empty(found, np.int64)
    rank[by_key] = np.arange(found)
    starts = np.zeros(found + 1, np.int64)
    np.cumsum(np.bincount(codes, minlength=found)[by_key], out=starts[1:])
    order, arrival = np.empty(n, np.uint32), np.empty(n, np.uint32)
    _place(codes, rank, starts, order, arrival)
    low, high = int(batch.offsets[0]), int(batch.offsets[-1])
    offsets, data = np.empty(n + 1, np.int64), np.empty(high - low, np.uint8)
    columns = {name: np.empty(n, getattr(batch, name).dtype) for name in COLUMNS}
    given = tuple(np.ascontiguousarray(getattr(batch, name)) for name in COLUMNS)
    whole = batch.offsets.astype(np.int64, copy=False)
    _gather(given, whole, np.ascontiguousarray(batch.data), arrival, tuple(columns.values()), offsets, data)
    extras = {name: column[arrival] for name, column in batch.extras().items()}
    clustered = FrameBatch(**columns, offsets=offsets, data=data, **extras)
    return Clustered(clustered, order, arrival, seen[:found][by_key], starts)
