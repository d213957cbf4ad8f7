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
def _runs(codes: Any, rank: Any, offsets: Any, counts: Any, sizes: Any) -> None:
    """How many frames of each identifier there are, and how many bytes of payload."""
    for i in range(len(codes)):
        run = rank[codes[i]]
        counts[run] += 1
        sizes[run] += offsets[i + 1] - offsets[i]


_EVERY = np.uint64(0xFFFFFFFFFFFFFFFF)


@njit(cache=True, nogil=True)
def _copy(data: Any, start: Any, size: Any, payloads: Any, at: Any) -> None:
    """Copy a payload and change not a byte beside it."""
    whole = size & ~7
    for k in range(0, whole, 8):
        store_word(payloads, at + k, load_word(data, start + k))
    for k in range(whole, size):
        payloads[at + k] = data[start + k]


@njit(cache=True, nogil=True)
def _place(codes: Any, rank: Any, starts: Any, order: Any, stored: Any) -> None:
    """Counting sort, stable: where each frame goes, and which frame came there."""
    at = starts.copy()
    for i in range(len(codes)):
        run = rank[codes[i]]
        place = at[run]
        at[run] = place + 1
        order[i] = place
        stored[place] = i


@njit(cache=True, nogil=True)
def _scatter(column: Any, order: Any, out: Any) -> None:
    """Move a column as it comes: one column at a time, so that few places are written to at once."""
    for i in range(len(order)):
        out[order[i]] = column[i]


@njit(cache=True, nogil=True)
def _scatter_payloads(codes: Any, rank: Any, at_bytes: Any, order: Any, offsets: Any, data: Any, new: Any,
                      payloads: Any) -> None:  # fmt: skip
    """Move payloads, each identifier's one after another; ``payloads`` has eight bytes more than they need."""
    last = len(data) - 8
    for i in range(len(codes)):
        run = rank[codes[i]]
        size = offsets[i + 1] - offsets[i]
        begin = at_bytes[run]
        at_bytes[run] = begin + size
        new[order[i]] = begin
        start = offsets[i]
        if size <= 8 and start <= last:
            # Without a branch for each length: what lies behind the payload is written as it was.
            kept = _EVERY << np.uint64(8 * size) if size < 8 else np.uint64(0)
            there = load_word(payloads, begin) & kept
            store_word(payloads, begin, there | (load_word(data, start) & ~kept))
        else:
            _copy(data, start, size, payloads, begin)


def cluster(batch: FrameBatch) -> Clustered:
    """As `keel.store.chunk.cluster`."""
    keys = batch.keys()
    n = len(batch)
    codes, seen = np.empty(n, np.int64), np.empty(n, np.uint64)
    found = int(_codes(keys, codes, seen))
    by_key = np.argsort(seen[:found])
    rank = np.empty(found, np.int64)
    rank[by_key] = np.arange(found)
    whole = np.ascontiguousarray(batch.offsets, np.int64)
    counts, sizes = np.zeros(found, np.int64), np.zeros(found, np.int64)
    _runs(codes, rank, whole, counts, sizes)
    starts, at_bytes = np.zeros(found + 1, np.int64), np.zeros(found + 1, np.int64)
    np.cumsum(counts, out=starts[1:])
    np.cumsum(sizes, out=at_bytes[1:])
    order, arrival = np.empty(n, np.uint32), np.empty(n, np.uint32)
    _place(codes, rank, starts[:-1], order, arrival)
    offsets, room = np.empty(n + 1, np.int64), np.empty(int(at_bytes[-1]) + 8, np.uint8)
    offsets[n] = at_bytes[-1]
    data = room[: int(at_bytes[-1])]
    _scatter_payloads(codes, rank, at_bytes, order, whole, np.ascontiguousarray(batch.data), offsets, room)
    columns = {name: _moved(getattr(batch, name), order) for name in COLUMNS}
    extras = {name: column[arrival] for name, column in batch.extras().items()}
    clustered = FrameBatch(**columns, offsets=offsets, data=data, **extras)
    return Clustered(clustered, order, arrival, seen[:found][by_key], starts, batch.time)


def _moved(column: Any, order: Any) -> Any:
    """A column, moved; most of them are often 0 throughout."""
    moved = np.zeros(len(order), column.dtype)
    if column.any():
        _scatter(np.ascontiguousarray(column), order, moved)
    return moved
