"""How often each payload bit of each identifier flips, from one frame without fault to the next.

Counted eight bytes at a time in bit-sliced counters: flips of 64 bits are added by a handful of logic operations
and read out once in 255 frames.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from keel.ask.matches import Matches, pool
from keel.ask.parts import Part
from keel.model.frames import Rows
from keel.model.words64 import load_word, tail_word
from keel.store.summary import SHOWN_BYTES

PLANES = 8
BITS = SHOWN_BYTES * 8
_NOTHING = np.zeros(0, np.bool_)


@njit(cache=True, nogil=True)
def _read_out(planes: Any, weight: Any, words: Any, flips: Any) -> None:
    """Add counters to the flips, and set them back."""
    for k in range(words):
        for p in range(planes.shape[1]):
            plane = planes[k, p]
            if plane:
                for bit in range(64):
                    flips[k * 64 + bit] += np.int64(plane >> np.uint64(bit) & np.uint64(1)) * (weight << p)
                planes[k, p] = 0


@njit(cache=True, nogil=True, inline="always")
def _add(planes: Any, k: Any, carry: Any) -> None:
    """Count one more for each bit set."""
    p = 0
    while carry:
        both = planes[k, p] & carry
        planes[k, p] ^= carry
        carry = both
        p += 1


@njit(cache=True, nogil=True)
def _uniform(data: Any, start: Any, rows: Any, size: Any, flips: Any) -> None:
    """Payloads of one size end to end: flips of 16 frames go through a tree of adders at a time.

    Source: the carry-save adders of H. S. Warren, Hacker's Delight, 5-1 (counting 1 bits in an array).
    """
    words = min(size >> 3, 8)
    singles, sixteens = np.zeros((9, PLANES), np.uint64), np.zeros((9, PLANES), np.uint64)
    low = np.zeros((9, 4), np.uint64)
    row, added = 1, 0
    while row + 16 <= rows:
        for k in range(words):
            at = start + size * (row - 1) + 8 * k
            ones, twos, fours, eights = low[k, 0], low[k, 1], low[k, 2], low[k, 3]
            before = load_word(data, at)
            carry_8 = np.uint64(0)
            for half in range(2):
                carry_4 = np.uint64(0)
                for quarter in range(2):
                    carry_2 = np.uint64(0)
                    for pair in range(2):
                        at += size
                        a = load_word(data, at)
                        at += size
                        b = load_word(data, at)
                        x, y = a ^ before, b ^ a
                        before = b
                        u = ones ^ x
                        carry = (ones & x) | (u & y)
                        ones = u ^ y
                        if pair == 0:
                            carry_2 = carry
                        else:
                            u = twos ^ carry_2
                            high = (twos & carry_2) | (u & carry)
                            twos = u ^ carry
                    if quarter == 0:
                        carry_4 = high
                    else:
                        u = fours ^ carry_4
                        higher = (fours & carry_4) | (u & high)
                        fours = u ^ high
                if half == 0:
                    carry_8 = higher
                else:
                    u = eights ^ carry_8
                    carry = (eights & carry_8) | (u & higher)
                    eights = u ^ higher
                    _add(sixteens, k, carry)
            low[k, 0], low[k, 1], low[k, 2], low[k, 3] = ones, twos, fours, eights
        row += 16
        added += 1
        if added == 255:
            _read_out(sixteens, 16, words, flips)
            added = 0
    _read_out(sixteens, 16, words, flips)
    _read_out(low, 1, words, flips)
    tail, end = 8 * words, min(size, 64)
    added = 0
    for i in range(1, rows):
        b = start + size * i
        if i >= row:
            for k in range(words):
                _add(singles, k, load_word(data, b + 8 * k) ^ load_word(data, b - size + 8 * k))
        if tail < end:
            a = b - size
            _add(singles, words, tail_word(data, a + tail, a + end) ^ tail_word(data, b + tail, b + end))
        elif i < row:
            continue
        added += 1
        if added == 255:
            _read_out(singles, 1, words + 1, flips)
            added = 0
    _read_out(singles, 1, words + 1, flips)


@njit(cache=True, nogil=True)
def _flips(skip: Any, offsets: Any, data: Any, lows: Any, highs: Any, wanted: Any, flips: Any) -> None:
    planes = np.zeros((9, PLANES), np.uint64)
    some = len(wanted) > 0
    for run in range(len(lows)):
        high = highs[run]
        before = np.int64(-1)
        row = lows[run]
        added = 0
        while row < high:
            if skip[row] or (some and not wanted[row]):
                row += 1
                continue
            start = np.int64(offsets[row])
            size = np.int64(offsets[row + 1]) - start
            end = row + 1
            while (end < high and skip[end] == 0 and (not some or wanted[end])
                   and np.int64(offsets[end + 1]) - np.int64(offsets[end]) == size):  # fmt: skip
                end += 1
            if before >= 0:
                a = np.int64(offsets[before])
                both = min(np.int64(offsets[before + 1]) - a, size, 64)
                at = 0
                while at < both:
                    stop = min(at + 8, both)
                    _add(planes, at >> 3, tail_word(data, a + at, a + stop) ^ tail_word(data, start + at, start + stop))
                    at += 8
                added += 1
                if added == 255:
                    _read_out(planes, 1, 8, flips[run])
                    added = 0
            _uniform(data, start, end - row, size, flips[run])
            before = end - 1
            row = end
        _read_out(planes, 1, 8, flips[run])


def part_flips(part: Part) -> Rows:
    """Flips of each bit of each identifier of a chunk, shape (r, `BITS`), counted within the chunk."""
    chunk = part.chunk
    lows, highs = part.ranges
    flips = np.zeros((len(lows), BITS), np.int64)
    wanted = part.wanted()
    batch = chunk.batch
    _flips(batch.passed_over(), batch.offsets, batch.data, np.ascontiguousarray(lows), np.ascontiguousarray(highs),
           _NOTHING if wanted is None else wanted, flips)  # fmt: skip
    return flips


def flips_by_key(matches: Matches) -> dict[int, Rows]:
    """Flips of each payload bit by key, shape (`BITS`,) each; bit 0 is the least significant of byte 0.

    Between two chunks the last payload is compared with the next one's first, as anywhere else.
    """
    parts = [part for part in matches.parts if part.count]
    counted = list(pool.map(part_flips, parts))
    found: dict[int, Rows] = {}
    last: dict[int, Any] = {}
    for part, flips in zip(parts, counted, strict=True):
        summary = part.summary
        rows = {key: run for run, key in enumerate(part.chunk.keys.tolist())}
        for run, key in enumerate(summary.keys.tolist()):
            if not summary.good[run]:
                continue
            mine = flips[rows[key]]
            head, size = summary.first_head[run], int(summary.first_size[run])
            if key in last:
                mine = mine + _between(last[key], (head, size))
            found[key] = found[key] + mine if key in found else mine
            last[key] = (summary.last_head[run], int(summary.last_size[run]))
    return found


def _between(a: tuple[Any, int], b: tuple[Any, int]) -> Rows:
    flips = np.zeros(BITS, np.int64)
    size = min(a[1], b[1], len(a[0]), len(b[0]))
    bits = np.unpackbits(a[0][:size] ^ b[0][:size], bitorder="little")
    flips[: len(bits)] = bits
    return flips
