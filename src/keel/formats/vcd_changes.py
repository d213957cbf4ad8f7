"""The values of a value change dump: which variable had which level when.

Source: IEEE 1364-2005, 18.2.1 (values), 18.2.3.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit

from keel.model.frames import Bytes

LOW, HIGH, UNKNOWN = 0, 1, 2
PIECE = 1 << 24

Progress = Callable[[int, int], None]
_TOKEN = re.compile(rb"\S+")


@dataclass
class Tracks:
    """Changes of all variables: time, which, level; and the end."""

    times: Any
    which: Any
    levels: Any
    vectors: dict[int, list[tuple[int, str]]]
    end: int
    notes: list[str]

    def of(self, place: int, bit: int) -> tuple[Any, Any]:
        """Times and levels of one variable; of a vector, one of its bits."""
        if bit >= 0:
            changes = self.vectors.get(place, [])
            times = np.array([time for time, _ in changes], np.int64)
            levels = [
                _BITS.get((text if len(text) > bit else _extended(text, bit))[-1 - bit], UNKNOWN) for _, text in changes
            ]
            return times, np.array(levels, np.uint8)
        rows = self.which == place
        return self.times[rows], self.levels[rows]


_BITS = {"0": LOW, "1": HIGH, "l": LOW, "L": LOW, "h": HIGH, "H": HIGH}


def _extended(text: str, bit: int) -> str:
    """A vector's value with the digits that are left out. Source: 18.2.1."""
    first = text[0] if text and text[0] in "xXzZ" else "0"
    return text.rjust(bit + 1, first)


@njit(cache=True, nogil=True)
def _level(byte: Any) -> Any:
    if byte == 48 or byte == 76 or byte == 108:
        return 0
    if byte == 49 or byte == 72 or byte == 104:
        return 1
    return 2


@njit(cache=True, nogil=True)
def _scan(data: Any, at: Any, stop: Any, now: Any, table: Any, out: Any, words: Any) -> Any:
    """Go through the values up to ``stop``.

    Args:
        data: The dump behind its declarations.
        at: Where to begin; a token begins there.
        stop: Where to end, before a token that is not whole.
        now: The time so far.
        table: Which variable has a code, by its hash; -1 for none.
        out: Times, variables, levels.
        words: Where words begin that are looked at elsewhere: values of vectors, keywords.

    Returns:
        How many changes, how many words, where it ended, the time, whether a time ran back.
    """
    times, which, levels = out
    n = rest = back = 0
    while at < stop:
        byte = data[at]
        if byte <= 32:
            at += 1
            continue
        end = at + 1
        while end < len(data) and data[end] > 32:
            end += 1
        if end > stop:
            break
        if byte == 35:
            value = np.int64(0)
            for k in range(at + 1, end):
                digit = np.int64(data[k]) - 48
                if digit < 0 or digit > 9:
                    break
                value = value * 10 + digit
            if value < now:
                back += 1
            else:
                now = value
        elif byte == 36 and end - at == 8 and data[at + 1] == 99:
            # A comment: everything up to its end.
            while end < len(data) and not (
                data[end] == 36 and end + 3 < len(data) and data[end + 1] == 101 and data[end + 2] == 110
            ):
                end += 1
            end = min(end + 4, len(data))
        elif byte == 36 or byte == 98 or byte == 66 or byte == 114 or byte == 82:
            words[rest, 0], words[rest, 1], words[rest, 2] = at, n, now
            rest += 1
            if byte != 36:
                # The code follows, as a word of its own.
                while end < len(data) and data[end] <= 32:
                    end += 1
                while end < len(data) and data[end] > 32:
                    end += 1
                if end > stop:
                    rest -= 1
                    break
        else:
            key = np.int64(0)
            for k in range(at + 1, end):
                key = key * 95 + (np.int64(data[k]) - 32)
            place = np.int64(-1)
            slot = key % len(table)
            while table[slot, 1] >= 0:
                if table[slot, 0] == key:
                    place = table[slot, 1]
                    break
                slot = (slot + 1) % len(table)
            if place >= 0:
                times[n], which[n], levels[n] = now, place, _level(byte)
                n += 1
        at = end
    return n, rest, at, now, back


def _table(codes: dict[str, int]) -> Any:
    """Codes by what `_scan` makes of them."""
    size = 1
    while size < 4 * len(codes) + 4:
        size *= 2
    table = np.full((size, 2), -1, np.int64)
    for code, place in codes.items():
        key = 0
        for byte in code.encode("latin-1", "replace"):
            key = (key * 95 + (byte - 32)) & 0xFFFF_FFFF_FFFF_FFFF
        key -= 1 << 64 if key >> 63 else 0
        slot = key % size
        while table[slot, 1] >= 0:
            slot = (slot + 1) % size
        table[slot] = key, place
    return table


def changes_in(data: Bytes, codes: dict[str, int], progress: Progress, total: int) -> Tracks:
    """All changes of the variables that are wanted. What is dumped off is unknown."""
    table = _table(codes)
    parts: list[tuple[Any, Any, Any]] = []
    vectors: dict[int, list[tuple[int, str]]] = {}
    at, now, backs = 0, 0, 0
    notes: list[str] = []
    while at < len(data):
        stop = min(at + PIECE, len(data))
        room = (stop - at) // 2 + 2
        out = (np.empty(room, np.int64), np.empty(room, np.int32), np.empty(room, np.uint8))
        words = np.empty((room, 3), np.int64)
        n, rest, end, now, back = _scan(data, at, stop, now, table, out, words)
        backs += back
        if end == at:
            # A word longer than a piece: what is left is nothing.
            break
        _look_at_words(data, words[:rest], codes, vectors, parts, out, n)
        at = end
        progress(total - len(data) + at, total)
    if backs:
        notes.append(f"{backs} times lie before the time above them: they were passed over")
    none = np.zeros(0, np.int64)
    times, which, levels = (np.concatenate([part[k] for part in parts]) if parts else none for k in range(3))
    return Tracks(times, which, levels, vectors, now, notes)


def _look_at_words(
    data: Bytes, words: Any, codes: dict[str, int], vectors: dict[int, list[tuple[int, str]]],
    parts: list[tuple[Any, Any, Any]], out: Any, n: int,
) -> None:  # fmt: skip
    """What keywords and values of vectors say; changes between them are kept in their order."""
    low = 0
    for at, count, now in words.tolist():
        text = data[at : at + 4096].tobytes()
        found = _TOKEN.findall(text, 0)
        if found[0][:1] in (b"b", b"B", b"r", b"R"):
            if len(found) > 1 and found[0][:1] in (b"b", b"B"):
                place = codes.get(found[1].decode("latin-1"))
                if place is not None:
                    vectors.setdefault(place, []).append((now, found[0][1:].decode("latin-1")))
        elif found[0] == b"$dumpoff":
            parts.append(tuple(column[low:count] for column in out))
            low = count
            every = np.arange(len(codes), dtype=np.int32)
            parts.append((np.full(len(codes), now, np.int64), every, np.full(len(codes), UNKNOWN, np.uint8)))
    parts.append(tuple(column[low:n] for column in out))
