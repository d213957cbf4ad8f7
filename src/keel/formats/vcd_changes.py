"""The values of a value change dump: which variable had which level when.

Source: IEEE 1364-2005, 18.2.1 (values), 18.2.3.
"""

from __future__ import annotations

import os
import re
from collections import deque
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit

from keel.model.frames import Bytes

LOW, HIGH, UNKNOWN = 0, 1, 2
EVERY = -1
"""A change of all variables: they are dumped no more."""
PIECE, A_WINDOW, AHEAD = 1 << 24, 1 << 12, 3

Progress = Callable[[int, int], None]
_TOKEN = re.compile(rb"\S+")
_BITS = {"0": LOW, "1": HIGH, "l": LOW, "L": LOW, "h": HIGH, "H": HIGH}
_LEVELS = np.full(256, UNKNOWN, np.uint8)
_LEVELS[[ord(letter) for letter in _BITS]] = list(_BITS.values())


@dataclass(frozen=True, eq=False)
class Tracks:
    """Times and levels of each variable, in order; of vectors their times and values; and the end."""

    scalars: list[tuple[Any, Any]]
    vectors: dict[int, list[tuple[int, str]]]
    end: int
    notes: list[str]

    def of(self, place: int, bit: int) -> tuple[Any, Any]:
        """Times and levels of one variable; of a vector, one of its bits."""
        if bit < 0:
            return self.scalars[place]
        changes = self.vectors.get(place, [])
        times = np.array([time for time, _ in changes], np.int64)
        levels = [
            _BITS.get((text if len(text) > bit else _extended(text, bit))[-1 - bit], UNKNOWN) for _, text in changes
        ]
        return times, np.array(levels, np.uint8)


def _extended(text: str, bit: int) -> str:
    """A vector's value with the digits that are left out. Source: 18.2.1."""
    first = text[0] if text and text[0] in "xXzZ" else "0"
    return text.rjust(bit + 1, first)


@njit(cache=True, nogil=True)
def _behind(data: Any, at: Any) -> Any:
    """Where the word ends that goes on at a place."""
    while at < len(data) and data[at] > 32:
        at += 1
    return at


@njit(cache=True, nogil=True)
def _scan(data: Any, at: Any, stop: Any, now: Any, tables: Any, with_vectors: Any, out: Any, words: Any) -> Any:
    """Go through the words that begin before ``stop``.

    Args:
        data: The dump behind its declarations.
        at, stop: Where to begin, and where to end; words begin at both.
        now: The time so far.
        tables: Levels by letter; variables by codes of one letter, and by what longer ones hash to; -1 for none.
        with_vectors: Whether values of vectors are wanted.
        out: Times, variables (empty where there is but one), levels.
        words: Where values of vectors begin, and their times.

    Returns:
        How many changes, how many words, where it ended, the time, how often it ran back.
    """
    times, which, levels = out
    letters, short, long = tables
    n = rest = back = 0
    size = len(data)
    while at < stop:
        byte = data[at]
        if byte <= 32:
            at += 1
        elif byte == 35:
            at += 1
            value = np.int64(0)
            # Digits go by fours as long as they can: each step waits for the one before.
            while at + 3 < size:
                one, two = np.int64(data[at]) - 48, np.int64(data[at + 1]) - 48
                three, four = np.int64(data[at + 2]) - 48, np.int64(data[at + 3]) - 48
                if min(one, two, three, four) < 0 or max(one, two, three, four) > 9:
                    break
                value = value * 10_000 + (one * 1_000 + two * 100 + (three * 10 + four))
                at += 4
            while at < size:
                digit = np.int64(data[at]) - 48
                if digit < 0 or digit > 9:
                    break
                value = value * 10 + digit
                at += 1
            at = _behind(data, at)
            if value < now:
                back += 1
            else:
                now = value
        elif byte == 36:
            end = _behind(data, at)
            if end - at == 8 and data[at + 1] == 99:
                # A comment: everything up to its end.
                while end < size and not (
                    data[end] == 36 and end + 3 < size and data[end + 1] == 101 and data[end + 2] == 110
                ):
                    end += 1
                end = min(end + 4, size)
            elif end - at == 8 and data[at + 5] == 111 and data[at + 6] == 102:
                times[n], levels[n] = now, 2
                if len(which):
                    which[n] = -1
                n += 1
            at = end
        elif byte == 98 or byte == 66 or byte == 114 or byte == 82:
            if with_vectors and byte & 0x5F == 66:
                words[rest, 0], words[rest, 1] = at, now
                rest += 1
            # The code follows, as a word of its own.
            at = _behind(data, at)
            while at < size and data[at] <= 32:
                at += 1
            at = _behind(data, at)
        else:
            place = -1
            if at + 2 == size or (at + 2 < size and data[at + 2] <= 32):
                place = short[data[at + 1]]
                at += 2
            else:
                end = _behind(data, at + 1)
                key = np.int64(0)
                for k in range(at + 1, end):
                    key = key * 95 + (np.int64(data[k]) - 32)
                slot = key % len(long)
                while long[slot, 1] >= 0:
                    if long[slot, 0] == key:
                        place = long[slot, 1]
                        break
                    slot = (slot + 1) % len(long)
                at = end
            if place >= 0:
                times[n], levels[n] = now, letters[byte]
                if len(which):
                    which[n] = place
                n += 1
    return n, rest, at, now, back


def _tables(codes: dict[str, int]) -> tuple[Any, Any, Any]:
    """Levels by letter, and variables by what `_scan` makes of their codes."""
    size = 1
    while size < 4 * len(codes) + 4:
        size *= 2
    short, long = np.full(256, -1, np.int64), np.full((size, 2), -1, np.int64)
    for code, place in codes.items():
        letters = code.encode("latin-1", "replace")
        if len(letters) == 1:
            short[letters[0]] = place
        key = 0
        for byte in letters:
            key = (key * 95 + (byte - 32)) & 0xFFFF_FFFF_FFFF_FFFF
        key -= 1 << 64 if key >> 63 else 0
        slot = key % size
        while long[slot, 1] >= 0:
            slot = (slot + 1) % size
        long[slot] = key, place
    return _LEVELS, short, long


@dataclass(frozen=True, eq=False)
class _Piece:
    """What a part of a dump says: changes, where values of vectors stand, where it ends, the time there."""

    changes: tuple[Any, Any, Any]
    words: Any
    end: int
    now: int
    backs: int


def changes_in(data: Bytes, codes: dict[str, int], progress: Progress, total: int, with_vectors: bool) -> Tracks:
    """All changes of the variables that are wanted. What is dumped off is unknown.

    Args:
        data: The dump behind its declarations, shape (n,).
        codes: The variables by their codes.
        progress: Called with bytes done and in all.
        total: Bytes of the whole file.
        with_vectors: Whether values of vectors are wanted.
    """
    tables = _tables(codes)

    def read(begin: int, stop: int, now: int = 0) -> _Piece:
        room = (stop - begin) // 3 + 2
        out = np.empty(room, np.int64), np.empty(room if len(codes) > 1 else 0, np.int32), np.empty(room, np.uint8)
        words = np.empty((room if with_vectors else 1, 2), np.int64)
        n, rest, end, now, backs = _scan(data, begin, stop, now, tables, with_vectors, out, words)
        return _Piece((out[0][:n], out[1][:n], out[2][:n]), words[:rest], end, now, backs)

    stops = _stops(data)
    begins = [0, *stops[:-1]]
    pieces: list[_Piece] = []
    at = now = 0
    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        waiting = deque[Future[_Piece]]()
        for number, (begin, stop) in enumerate(zip(begins, stops, strict=True)):
            while len(waiting) < AHEAD and number + len(waiting) < len(stops):
                waiting.append(pool.submit(read, begins[number + len(waiting)], stops[number + len(waiting)]))
            piece = waiting.popleft().result()
            if at != begin or _first_time(data, begin) < now:
                # A comment goes on beyond where it was cut, or time runs back: what came before must be known.
                piece = read(at, max(stop, at), now)
            at, now = piece.end, piece.now
            pieces.append(piece)
            progress(total - len(data) + at, total)
    notes = []
    if backs := sum(piece.backs for piece in pieces):
        notes.append(f"{backs} times lie before the time above them: they were passed over")
    return Tracks(_by_variable(pieces, len(codes)), _vectors(data, pieces, codes), now, notes)


def _stops(data: Bytes) -> list[int]:
    """Where to cut a dump: at times, each at the begin of a line."""
    stops, at = [], PIECE
    while at < len(data):
        place = data[at : at + A_WINDOW].tobytes().find(b"\n#")
        if place >= 0:
            stops.append(at + place + 1)
        at += A_WINDOW - 1 if place < 0 else place + PIECE
    return [*stops, len(data)]


def _first_time(data: Bytes, at: int) -> int:
    found = re.match(rb"#(\d+)", data[at : at + 40].tobytes())
    return int(found[1]) if found else 0


def _by_variable(pieces: list[_Piece], count: int) -> list[tuple[Any, Any]]:
    changes = [piece.changes for piece in pieces]
    times, which, levels = (np.concatenate([one[k] for one in changes]) for k in range(3))
    if count == 1:
        return [(times, levels)]
    every = int((which == EVERY).sum())
    sizes = np.bincount(which[which >= 0] if every else which, minlength=count) + every
    ends = np.cumsum(sizes)
    of_all = np.empty(int(ends[-1]), np.int64), np.empty(int(ends[-1]), np.uint8)
    _sort(times, which, levels, ends - sizes, *of_all)
    return [(of_all[0][end - size : end], of_all[1][end - size : end]) for end, size in zip(ends, sizes, strict=True)]


@njit(cache=True, nogil=True)
def _sort(times: Any, which: Any, levels: Any, places: Any, sorted_times: Any, sorted_levels: Any) -> None:
    """Put changes in the order of their variables, each of which has its place; a change of every one goes to all."""
    for n in range(len(times)):
        low, high = (which[n], which[n] + 1) if which[n] >= 0 else (0, len(places))
        for one in range(low, high):
            sorted_times[places[one]], sorted_levels[places[one]] = times[n], levels[n]
            places[one] += 1


def _vectors(data: Bytes, pieces: list[_Piece], codes: dict[str, int]) -> dict[int, list[tuple[int, str]]]:
    vectors: dict[int, list[tuple[int, str]]] = {}
    for piece in pieces:
        for at, now in piece.words.tolist():
            found = _TOKEN.findall(data[at : at + 4096].tobytes(), 0)
            place = codes.get(found[1].decode("latin-1")) if len(found) > 1 else None
            if place is not None:
                vectors.setdefault(place, []).append((now, found[0][1:].decode("latin-1")))
    return vectors


@njit(cache=True, nogil=True)
def edges_of(times: Any, levels: Any, spans: Any) -> Any:
    """When a variable changed between low and high, and in which spans neither was known.

    Of several values at one time the last one holds. A span is open to the end where its end is -1.

    Args:
        times: Times of its values, ascending; filled with those of its edges.
        levels: Its values.
        spans: Filled; as long as ``times``.

    Returns:
        How many edges, how many spans, the first level that is known (-1: none).
    """
    count, n, m = len(times), 0, 0
    first = level = -1
    known = True
    for i in range(count):
        now = times[i]
        if i + 1 < count and times[i + 1] == now:
            continue
        if levels[i] == 2:
            if known:
                spans[m, 0], spans[m, 1] = now, -1
                m += 1
            known = False
            continue
        if not known:
            spans[m - 1, 1] = now
            known = True
        if level < 0:
            first = levels[i]
        elif levels[i] != level:
            times[n] = now
            n += 1
        level = levels[i]
    return n, m, first
