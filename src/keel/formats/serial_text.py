"""Lines of text with a time before them, as terminals and loggers of serial lines write; and bytes without any.

A time is seconds (``12.5``, also since 1970), a clock (``13:01:02.5``), or a date and a clock
(``2024-05-01T13:01:02.5Z``, an offset from UTC may follow); it may stand in brackets. What follows it is the payload,
byte by byte as it lies there.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from numba import njit

from keel.formats.packets import gather
from keel.formats.reader import Account, Format, Progress, read_with
from keel.media.serial import BITS_A_BYTE, TALKER, USUAL_RATE
from keel.model.frames import Bytes, FrameBatch, batch_of, replace_columns
from keel.model.units import NS_PER_S

BUS = "serial"
DAY_NS = 86_400 * NS_PER_S
NO_TIME = "lines without a time: they stand at the time of the line before"
NO_DATE = "clock times without a date: they count from midnight of the first day"
BYTES_A_FRAME = 64
"""Bytes that no line feed parts are cut into pieces of so many."""
NOTHING, SECONDS, CLOCK, DATED = range(4)


@njit(cache=True, nogil=True)
def _number(data: Any, at: Any, end: Any, most: int) -> Any:
    """A number of up to ``most`` digits and where it ends; -1 if there is none."""
    value, begin = np.int64(0), at
    while at < end and at - begin < most and 48 <= data[at] <= 57:
        value = value * 10 + data[at] - 48
        at += 1
    return (value if at > begin else np.int64(-1)), at


@njit(cache=True, nogil=True)
def _fraction(data: Any, at: Any, end: Any) -> Any:
    """Nanoseconds after a point or a comma, and where they end."""
    if at >= end or (data[at] != 46 and data[at] != 44) or at + 1 >= end or not 48 <= data[at + 1] <= 57:
        return np.int64(0), at
    at += 1
    ns, digits = np.int64(0), 0
    while at < end and 48 <= data[at] <= 57:
        if digits < 9:
            ns = ns * 10 + data[at] - 48
            digits += 1
        at += 1
    for _ in range(digits, 9):
        ns *= 10
    return ns, at


@njit(cache=True, nogil=True)
def _days(year: Any, month: Any, day: Any) -> Any:
    """Days since 1970-01-01. Source: H. Hinnant, chrono-compatible low-level date algorithms, 2013."""
    year -= month <= 2
    era = year // 400
    of_era = year - era * 400
    of_year = (153 * ((month + 9) % 12) + 2) // 5 + day - 1
    return era * 146_097 + of_era * 365 + of_era // 4 - of_era // 100 + of_year - 719_468


@njit(cache=True, nogil=True)
def _time(data: Any, at: Any, end: Any) -> Any:
    """The time that a line begins with: its kind, ns, and where it ends."""
    open_ = at < end and (data[at] == 91 or data[at] == 40)
    if open_:
        at += 1
    first, after = _number(data, at, end, 18)
    if first < 0:
        return NOTHING, np.int64(0), at
    days, kind, begin = np.int64(0), CLOCK, at
    if after < end and (data[after] == 45 or data[after] == 47) and after - at == 4:
        mark = data[after]
        month, after = _number(data, after + 1, end, 2)
        if month < 1 or month > 12 or after >= end or data[after] != mark:
            return NOTHING, np.int64(0), at
        day, after = _number(data, after + 1, end, 2)
        if day < 1 or day > 31 or after >= end or (data[after] != 84 and data[after] != 32):
            return NOTHING, np.int64(0), at
        days, kind = _days(first, month, day), DATED
        begin = after + 1
        first, after = _number(data, begin, end, 2)
    ns = np.int64(0)
    if after < end and data[after] == 58 and after - begin <= 2 and 0 <= first < 24:
        minute, after = _number(data, after + 1, end, 2)
        second = np.int64(0)
        if minute < 0 or minute > 59:
            return NOTHING, np.int64(0), at
        if after < end and data[after] == 58:
            second, after = _number(data, after + 1, end, 2)
            if second < 0 or second > 60:
                return NOTHING, np.int64(0), at
        part, after = _fraction(data, after, end)
        ns = ((days * 24 + first) * 3600 + minute * 60 + second) * 1_000_000_000 + part
        if after < end and data[after] == 90:
            after += 1
        elif kind == DATED and after + 3 <= end and (data[after] == 43 or data[after] == 45):
            hours, later = _number(data, after + 1, end, 2)
            minutes = np.int64(0)
            if hours >= 0:
                if later < end and data[later] == 58:
                    later += 1
                if later + 2 <= end and 48 <= data[later] <= 57:
                    minutes, later = _number(data, later, end, 2)
                shift = (hours * 60 + minutes) * 60_000_000_000
                ns += -shift if data[after] == 43 else shift
                after = later
    elif kind == DATED or first > 9_000_000_000:
        return NOTHING, np.int64(0), at
    else:
        kind = SECONDS
        part, after = _fraction(data, after, end)
        ns = first * 1_000_000_000 + part
        if after < end and data[after] == 115:
            after += 1
    if open_:
        if after >= end or (data[after] != 93 and data[after] != 41):
            return NOTHING, np.int64(0), at
        after += 1
    # A number that something is grown to is none, and neither is the hour of a clock that cannot be.
    if after + 1 < end and data[after] == 58 and 48 <= data[after + 1] <= 57:
        return NOTHING, np.int64(0), at
    if after < end and data[after] != 32 and data[after] != 9 and data[after] != 58 and data[after] != 44:
        return NOTHING, np.int64(0), at
    while after < end and (data[after] == 58 or data[after] == 44):
        after += 1
    if after < end and (data[after] == 32 or data[after] == 9):
        after += 1
    return kind, ns, after


@njit(cache=True, nogil=True)
def _times(data: Any, starts: Any, ends: Any, kinds: Any, times: Any, begins: Any) -> None:
    for i in range(len(starts)):
        kinds[i], times[i], begins[i] = _time(data, starts[i], ends[i])
        if kinds[i] == NOTHING:
            begins[i] = starts[i]


class TextParser:
    """Reads lines piece by piece."""

    def __init__(self, account: Account) -> None:
        self._account = account
        self._last: int | None = None
        self._untimed = 0
        self._days = 0
        account.bus_names, account.media[BUS] = [BUS], "serial"

    def feed(self, buffer: Bytes, final: bool) -> tuple[list[FrameBatch], int]:
        """Read whole lines."""
        breaks = np.flatnonzero(buffer == 10)
        stop = len(buffer) if final else int(breaks[-1]) + 1 if len(breaks) else 0
        starts = np.concatenate([[0], breaks + 1])
        ends = np.append(breaks, len(buffer))
        whole = starts < stop
        starts, ends = starts[whole], ends[whole]
        ends = ends - ((ends > starts) & (buffer[np.maximum(ends - 1, 0)] == 13))
        some = ends > starts
        starts, ends = starts[some], ends[some]
        if not len(starts):
            return [], stop
        kinds, times, begins = (np.empty(len(starts), kind) for kind in (np.uint8, np.int64, np.int64))
        _times(buffer, starts, ends, kinds, times, begins)
        times = self._filled(kinds, times)
        return [frames_of(times, buffer, begins, ends - begins)], stop

    def _filled(self, kinds: Any, times: Any) -> Any:
        """Times of all lines: of those without that of the line before; clocks go on over midnight."""
        clocks = np.flatnonzero(kinds == CLOCK)
        if len(clocks):
            self._account.once(NO_DATE, NO_DATE)
            before = np.concatenate([[times[clocks[0]] if self._last is None else self._last % DAY_NS], times[clocks]])
            passed = np.cumsum(np.diff(before) < -DAY_NS // 2) + self._days
            times[clocks] += passed * DAY_NS
            self._days = int(passed[-1])
        timed = np.flatnonzero(kinds != NOTHING)
        untimed = len(times) - len(timed)
        if untimed:
            self._untimed += untimed
            self._account.once(NO_TIME, f"{self._untimed} {NO_TIME}")
        place = np.searchsorted(timed, np.arange(len(times)), side="right") - 1
        first = self._last if self._last is not None else int(times[timed[0]]) if len(timed) else 0
        filled = np.where(place >= 0, times[timed[np.maximum(place, 0)]] if len(timed) else first, first)
        self._last = int(filled[-1])
        return filled


def frames_of(times: Any, buffer: Bytes, starts: Any, lengths: Any) -> FrameBatch:
    """Frames of a serial line from stretches of a buffer."""
    offsets, data = gather(buffer, starts, lengths)
    head = batch_of(times, 0, [b""] * len(times), form=TALKER.number, dlc=0)
    return replace_columns(head, offsets=offsets, data=data)


class BytesParser:
    """Reads bytes without times piece by piece: a line of text is a frame, or so many bytes where there is none."""

    def __init__(self, account: Account, rate: int, start: int) -> None:
        self._account, self._rate, self._start = account, rate, start
        self._done = 0
        account.bus_names, account.media[BUS] = [BUS], "serial"

    def feed(self, buffer: Bytes, final: bool) -> tuple[list[FrameBatch], int]:
        """Read whole pieces."""
        breaks = np.flatnonzero(buffer == 10) + 1
        edges = np.unique(np.concatenate([[0], breaks, [len(buffer)]]))
        pieces = [np.arange(a, b, BYTES_A_FRAME) for a, b in zip(edges[:-1], edges[1:], strict=True)]
        starts = np.concatenate(pieces) if pieces else np.zeros(0, np.int64)
        ends = np.append(starts[1:], len(buffer))
        if not final and len(starts):
            starts, ends = starts[:-1], ends[:-1]
        if not len(starts):
            return [], len(buffer) if final else 0
        times = self._start + (self._done + starts) * BITS_A_BYTE * NS_PER_S // self._rate
        used = int(ends[-1])
        self._done += used
        return [frames_of(times, buffer, starts, ends - starts)], used


def read_bytes(rate: int | None, path: Path, account: Account, progress: Progress) -> Iterator[FrameBatch]:
    """Read bytes at a rate in bit/s; without one, at the usual one."""
    start = path.stat().st_mtime_ns
    said = f"{rate} bit/s" if rate is not None else f"{USUAL_RATE} bit/s, which nobody named"
    account.notes.append(f"times are invented: from the file's date on, at {said}, {BITS_A_BYTE} bits a byte")
    yield from read_with(BytesParser(account, rate or USUAL_RATE, start), path, account, progress)


def bytes_format(rate: int | None) -> Format:
    """The format of bytes without times."""
    return Format("bytes of a serial line", lambda _: None, partial(read_bytes, rate))


TEXT = Format(
    "text of a serial line",
    lambda _: None,
    lambda path, account, progress: read_with(TextParser(account), path, account, progress),
    TextParser,
)
