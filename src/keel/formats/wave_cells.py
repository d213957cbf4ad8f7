"""Numbers in columns: the cells of a text, read in pieces side by side."""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit

from keel.model.frames import Bytes

PIECE, A_WINDOW = 1 << 24, 1 << 12
POWERS = 10.0 ** np.arange(23)
"""Powers of ten that a double holds exactly."""
MOST = 10**17
"""Digits beyond so great a number say nothing that a double holds."""

Progress = Callable[[int, int], None]
Release = Callable[[int, int], None]
"""Told from where to where a text is not needed for now: a mapped file need not stay in memory."""


@njit(cache=True, nogil=True)
def _rows(data: Any, at: Any, stop: Any, separator: Any, decimal: Any, powers: Any, first: Any, others: Any) -> Any:
    """Read the rows between two places, at both of which rows begin; how many.

    All in one: a function that is handed an array costs as much as a cell.

    Args:
        data: The text.
        at, stop: The two places.
        separator: The byte between cells; 0 stands for any number of blanks.
        decimal: The decimal sign.
        powers: Powers of ten.
        first, others: Filled with the numbers, NaN for what is none.
    """
    columns = len(others) + 1
    n = column = 0
    says = False
    while at < stop:
        byte = data[at]
        if byte == 34 or byte == 13 or ((byte == 32 or byte == 9) and byte != separator):
            # Blanks, quotes and carriage returns belong to no cell.
            at += 1
            continue
        # Where nothing more is said a row has no further cell.
        is_cell = byte != 10 or (column > 0 and separator != 0)
        number = np.nan
        if byte != 10 and byte != separator:
            says = True
            # Sign, digits, decimal sign, digits, power of ten.
            minus = byte == 45
            if minus or byte == 43:
                at += 1
            value = np.int64(0)
            scale = digits = 0
            while at < stop and data[at] >= 48 and data[at] <= 57:
                if value < MOST:
                    value = value * 10 + (np.int64(data[at]) - 48)
                else:
                    scale += 1
                digits += 1
                at += 1
            if at < stop and data[at] == decimal:
                at += 1
                while at < stop and data[at] >= 48 and data[at] <= 57:
                    if value < MOST:
                        value = value * 10 + (np.int64(data[at]) - 48)
                        scale -= 1
                    digits += 1
                    at += 1
            if digits > 0 and at < stop and (data[at] == 101 or data[at] == 69):
                at += 1
                below = at < stop and data[at] == 45
                if below or (at < stop and data[at] == 43):
                    at += 1
                power, begin = 0, at
                while at < stop and data[at] >= 48 and data[at] <= 57:
                    power = min(power * 10 + (np.int64(data[at]) - 48), np.int64(9_999))
                    at += 1
                digits = 0 if at == begin else digits
                scale += -power if below else power
            if digits > 0:
                number = np.float64(value)
                if scale > 22 or scale < -22:
                    number *= 10.0**scale
                elif scale < 0:
                    number /= powers[-scale]
                else:
                    number *= powers[scale]
                number = -number if minus else number
            # What follows up to the end of the cell is nothing, or it is no number.
            while at < stop and data[at] != separator and data[at] != 10:
                byte = data[at]
                if separator == 0 and (byte == 32 or byte == 9):
                    break
                if byte != 32 and byte != 9 and byte != 34 and byte != 13:
                    number = np.nan
                at += 1
        if is_cell:
            if column == 0:
                first[n] = number
            elif column < columns:
                others[column - 1, n] = number
            column += 1
        if at < stop and data[at] != 10:
            at += 1
            continue
        if says or column > 1:
            for one in range(column, columns):
                others[one - 1, n] = np.nan
            n += 1
        at += 1
        column, says = 0, False
    if says:
        # The text ends behind a blank or a separator.
        for one in range(column, columns):
            others[one - 1, n] = np.nan
        n += 1
    return n


@dataclass(frozen=True)
class Even:
    """Times at a fixed interval, in the unit of their column: the first, the last, how many."""

    first: float
    last: float
    count: int

    @property
    def step(self) -> float:
        """From one to the next."""
        return (self.last - self.first) / max(self.count - 1, 1)


@njit(cache=True, nogil=True)
def steps_of(times: Any) -> Any:
    """The shortest and the longest time from one sample to the next; the shortest is not a number if one is none."""
    least, most = np.inf, 0.0
    for n in range(1, len(times)):
        step = times[n] - times[n - 1]
        if not step > -np.inf:
            return np.nan, np.nan
        least, most = min(least, step), max(most, step)
    return least, most


def read_evenly(
    data: Bytes, begin: int, separator: str, decimal: str, columns: int, off: float,
    progress: Progress = lambda *_: None, release: Release = lambda *_: None,
) -> tuple[Even, Any] | None:  # fmt: skip
    """The numbers in the columns of a text whose first column climbs evenly, which then need not be kept.

    Args:
        data, begin, separator, decimal, columns, progress, release: As `read_cells` has them.
        off: By what share steps may differ from the usual one.

    Returns:
        The times, and all other columns as float32, shape (columns - 1, rows); None where something is no number, or
        steps differ: then `read_cells` has to tell what there is.
    """
    between = 0 if separator == " " else ord(separator)
    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        begins, stops, places = _pieces(data, begin, pool, release)
        others = np.empty((columns - 1, places[-1]), np.float32)

        def read(number: int) -> tuple[int, float, float, float, float]:
            low, high = places[number], places[number + 1]
            times, rest = np.empty(high - low), others[:, low:high]
            count = int(_rows(data, begins[number], stops[number], between, ord(decimal), POWERS, times, rest))
            release(begins[number], stops[number])
            if not count:
                return 0, 0.0, 0.0, np.inf, 0.0
            is_known = bool(np.isfinite(rest[:, :count]).all())
            least, most = steps_of(times[:count])
            return count, float(times[0]), float(times[count - 1]), least if is_known else np.nan, most

        first = last = np.nan
        least, most, at = np.inf, 0.0, 0
        for number, (count, begun, ended, shortest, longest) in enumerate(pool.map(read, range(len(stops)))):
            progress(stops[number], len(data))
            if not count:
                continue
            if at:
                least, most = min(least, begun - last), max(most, begun - last)
            else:
                first = begun
            least, most, last = min(least, shortest), max(most, longest), ended
            if shortest != shortest or begun != begun:
                # Nothing more of it is needed.
                pool.shutdown(cancel_futures=True)
                return None
            low = places[number]
            if low > at:
                others[:, at : at + count] = others[:, low : low + count]
            at += count
    found = Even(first, last, at)
    if at < 2 or not least > 0 or max(found.step - least, most - found.step) > off * found.step:
        return None
    return found, others[:, :at]


def read_cells(
    data: Bytes, begin: int, separator: str, decimal: str, columns: int, progress: Progress = lambda *_: None,
    first_kind: Any = np.float64, release: Release = lambda *_: None,
) -> tuple[Any, Any]:  # fmt: skip
    """The numbers in the columns of a text.

    Args:
        data: The text, shape (n,).
        begin: Where the first row begins.
        separator: What stands between cells; a space: any number of blanks.
        decimal: The decimal sign.
        columns: How many columns there are.
        progress: Called with bytes done and in all.
        first_kind: What the first column is kept as: times need all digits.
        release: Called with parts that were read.

    Returns:
        The first column, shape (rows,), all others as float32, shape (columns - 1, rows); NaN stands for
        what is no number.
    """
    between = 0 if separator == " " else ord(separator)
    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        begins, stops, places = _pieces(data, begin, pool, release)
        first = np.empty(places[-1], first_kind)
        others = np.empty((columns - 1, places[-1]), np.float32)

        def read(number: int) -> int:
            low, high = places[number], places[number + 1]
            into = first[low:high], others[:, low:high]
            count = int(_rows(data, begins[number], stops[number], between, ord(decimal), POWERS, *into))
            release(begins[number], stops[number])
            return count

        rows = []
        for number, count in enumerate(pool.map(read, range(len(stops)))):
            rows.append(count)
            progress(stops[number], len(data))
    # Lines without a cell leave gaps.
    at = 0
    for low, count in zip(places, rows, strict=False):
        if low > at:
            first[at : at + count] = first[low : low + count]
            others[:, at : at + count] = others[:, low : low + count]
        at += count
    return first[:at], others[:, :at]


def _pieces(
    data: Bytes, begin: int, pool: ThreadPoolExecutor, release: Release
) -> tuple[list[int], list[int], list[int]]:
    """A text cut into pieces: where each begins and ends; the row that each begins with, and the one behind all."""
    stops = _stops(data, begin)
    begins = [begin, *stops[:-1]]
    lines = list(pool.map(lambda a, b: _lines(data, a, b, release), begins, stops))
    return begins, stops, np.concatenate([[0], np.cumsum(lines)]).tolist()


def _lines(data: Bytes, begin: int, stop: int, release: Release) -> int:
    """How many lines a part of a text may have."""
    count = int(np.count_nonzero(data[begin:stop] == 10)) + 1
    release(begin, stop)
    return count


def _stops(data: Bytes, begin: int) -> list[int]:
    """Where to cut a text: at the begins of lines."""
    stops, at = [], begin + PIECE
    while at < len(data):
        place = data[at : at + A_WINDOW].tobytes().find(b"\n")
        if place >= 0:
            stops.append(at + place + 1)
        at += A_WINDOW if place < 0 else place + PIECE
    return [*(stop for stop in stops if stop < len(data)), len(data)]
