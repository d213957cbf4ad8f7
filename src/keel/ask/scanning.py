"""`keel.ask.patterns.find_pattern`, compiled: looks for one byte of the pattern eight bytes at a time."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from keel.ask.patterns import Pattern
from keel.model.frames import Bytes, Mask
from keel.model.words64 import LOW_BITS, load_word, zero_bytes


@njit(cache=True, nogil=True, inline="always")
def _meets(data: Any, at: Any, values: Any, others: Any, known: Any) -> bool:
    for k in range(len(values)):
        if known[k]:
            byte = data[at + k]
            if byte != values[k] and byte != others[k]:
                return False
    return True


@njit(cache=True, nogil=True)
def _scan(data: Any, offsets: Any, values: Any, others: Any, known: Any, anchor: Any, fixed: Any, found: Any) -> None:
    size = len(values)
    alone = known.sum() == 1
    word_a = LOW_BITS * np.uint64(values[anchor])
    word_b = LOW_BITS * np.uint64(others[anchor])
    twice = word_a != word_b
    safe = len(data) - 8
    for row in range(len(found)):
        start, end = np.int64(offsets[row]), np.int64(offsets[row + 1])
        if end > len(data) or start < 0:
            continue
        if fixed >= 0:
            found[row] = start + fixed + size <= end and _meets(data, start + fixed, values, others, known)
            continue
        at, last = start + anchor, end - size + anchor
        while at <= last:
            if at > safe:
                if _meets(data, at - anchor, values, others, known):
                    found[row] = True
                    break
                at += 1
                continue
            word = load_word(data, at)
            hits = zero_bytes(word ^ word_a)
            if twice:
                hits |= zero_bytes(word ^ word_b)
            over = at + 7 - last
            if over > 0:
                hits &= ~np.uint64(0) >> np.uint64(8 * over)
            if hits:
                if alone:
                    found[row] = True
                    break
                hit = False
                for k in range(8):
                    if hits >> np.uint64(8 * k) & np.uint64(0x80) and _meets(
                        data, at + k - anchor, values, others, known
                    ):
                        hit = True
                        break
                if hit:
                    found[row] = True
                    break
            at += 8


def find_pattern(data: Bytes, offsets: Any, pattern: Pattern, at: int | None = None, fold: bool = False) -> Mask:
    """As `keel.ask.patterns.find_pattern`."""
    known = np.array([byte is not None for byte in pattern])
    values = np.array([byte or 0 for byte in pattern], np.uint8)
    others = values.copy()
    if fold:
        letter = ((values >= 65) & (values <= 90)) | ((values >= 97) & (values <= 122))
        others[letter] ^= 0x20
    if not known.any():
        found: Mask = np.diff(offsets) >= (at or 0) + len(pattern)
        return found
    found = np.zeros(len(offsets) - 1, np.bool_)
    _scan(data, offsets, values, others, known, int(np.argmax(known)), -1 if at is None else at, found)
    return found
