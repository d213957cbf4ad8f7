"""The cells of delimited text, compiled: times, numbers, bytes and names, straight from the bytes of a line."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from keel.model.bus import MOST_BUSES

MAX_NAME = 1024
"""Bytes of a bus name at most."""
_HEX = np.full(256, 255, np.uint8)
for _digit, _char in enumerate(b"0123456789abcdef"):
    _HEX[_char] = _HEX[ord(chr(_char).upper())] = _digit


@njit(cache=True, nogil=True)
def _days(year: Any, month: Any, day: Any) -> Any:
    """Days since 1970. Source: H. Hinnant, chrono-compatible low-level date algorithms, days_from_civil."""
    year -= month <= 2
    era = year // 400
    of_era = year - era * 400
    of_year = (153 * (month + (-3 if month > 2 else 9)) + 2) // 5 + day - 1
    return era * 146097 + of_era * 365 + of_era // 4 - of_era // 100 + of_year - 719468


@njit(cache=True, nogil=True)
def time_of(text: Any, at: Any, end: Any, digits: Any) -> Any:
    """A time in ns, exact; and whether it is one. ``digits`` is how many digits the unit has down to ns."""
    parts = np.zeros(8, np.int64)
    signs = np.zeros(8, np.uint8)
    count, seen = 0, 0
    if at < end and text[at] == 40:
        at += 1
    sign = 1
    if at < end and text[at] == 45:
        sign = -1
        at += 1
    if at < end and text[end - 1] == 41:
        end -= 1
    if at < end and (text[end - 1] | 32) == 122:
        end -= 1
    value = np.int64(0)
    while at < end:
        byte = text[at]
        if 48 <= byte <= 57:
            if seen > 18:
                return np.int64(0), False
            value = value * 10 + (byte - 48)
            seen += 1
        elif byte == 46 or byte == 44:
            break
        elif (byte == 58 or byte == 45 or byte == 84 or byte == 32) and seen and count < 7:
            parts[count], signs[count] = value, byte
            count += 1
            value, seen = np.int64(0), 0
        else:
            return np.int64(0), False
        at += 1
    if seen == 0:
        return np.int64(0), False
    parts[count] = value
    total = np.int64(0)
    begin = 0
    if count >= 2 and signs[0] == 45 and signs[1] == 45:
        if not (1 <= parts[1] <= 12 and 1 <= parts[2] <= 31 and parts[0] < 3000):
            return np.int64(0), False
        total = _days(parts[0], parts[1], parts[2]) * 86400
        begin = 3
    of_day = np.int64(0)
    for k in range(begin, count + 1):
        if k > begin and signs[k - 1] != 58:
            return np.int64(0), False
        of_day = of_day * 60 + parts[k]
    total += of_day
    if total > 9_300_000_000 and digits == 9:
        return np.int64(0), False
    for _ in range(digits):
        if total > 922_337_203_685_477_580:
            return np.int64(0), False
        total *= 10
    left = digits
    at += 1
    fraction = np.int64(0)
    while at < end:
        if not 48 <= text[at] <= 57:
            return np.int64(0), False
        if left:
            fraction = fraction * 10 + (text[at] - 48)
            left -= 1
        at += 1
    for _ in range(left if fraction else 0):
        fraction *= 10
    return sign * (total + fraction), True


def new_names() -> tuple[Any, Any]:
    """Room for the names of buses, length first, then bytes; and how many there are."""
    return np.zeros((MOST_BUSES, MAX_NAME + 1), np.uint16), np.zeros(1, np.int64)


def names_in(names: Any, known: int) -> list[str]:
    """The names found so far."""
    return [
        names[i, 1 : 1 + int(names[i, 0])].astype(np.uint8).tobytes().decode("utf-8", "replace") for i in range(known)
    ]


@njit(cache=True, nogil=True)
def number_of(text: Any, at: Any, end: Any, is_hex: bool) -> Any:
    """An integer, how many digits it has, whether an x follows that says 29 bits; digits 0 if it is none."""
    long = False
    if at + 1 < end and text[at] == 48 and (text[at + 1] | 32) == 120:
        at += 2
        is_hex = True
    elif at + 1 < end and (text[end - 1] | 32) == 104:
        end -= 1
        is_hex = True
    elif at + 1 < end and (text[end - 1] | 32) == 120:
        end -= 1
        long = True
    value, digits = np.uint64(0), 0
    while at < end:
        digit = _HEX[text[at]]
        if digit > (15 if is_hex else 9) or digits > 15:
            return value, 0, long
        value = value * np.uint64(16 if is_hex else 10) + np.uint64(digit)
        digits += 1
        at += 1
    return value, digits, long


@njit(cache=True, nogil=True)
def bytes_of(text: Any, at: Any, end: Any, is_hex: bool, data: Any, used: Any) -> Any:
    """Bytes of a cell into ``data``; how many, -1 if it is none. Signs between bytes are passed over, and each 0x."""
    took = 0
    while at < end:
        byte = text[at]
        if at + 1 < end and byte == 48 and (text[at + 1] | 32) == 120:
            at += 2
            continue
        if byte == 32 or byte == 45 or byte == 58 or byte == 46 or byte == 44:
            at += 1
            continue
        if is_hex:
            high = _HEX[byte]
            if high > 15:
                return -1
            if at + 1 < end and _HEX[text[at + 1]] < 16:
                data[used + took] = high << 4 | _HEX[text[at + 1]]
                at += 2
            else:
                # A byte of one digit stands alone.
                data[used + took] = high
                at += 1
                if at < end and _HEX[text[at]] < 16:
                    return -1
        else:
            value = 0
            begin = at
            while at < end and 48 <= text[at] <= 57 and at - begin < 4:
                value = value * 10 + (text[at] - 48)
                at += 1
            if at == begin or value > 255:
                return -1
            data[used + took] = value
        took += 1
    return took


@njit(cache=True, nogil=True)
def is_yes(text: Any, at: Any, end: Any) -> bool:
    """Whether a cell says 1, true, yes or x."""
    if at >= end:
        return False
    first = text[at] | 32
    return text[at] == 49 or first == 116 or first == 121 or first == 120


@njit(cache=True, nogil=True)
def bus_of(text: Any, at: Any, end: Any, names: Any, known: Any) -> int:
    """The index of a bus by its name, which is added if it is new; -1 if there are too many."""
    count = min(end - at, MAX_NAME)
    for which in range(known[0]):
        if names[which, 0] == count:
            same = True
            for k in range(count):
                if names[which, 1 + k] != text[at + k]:
                    same = False
                    break
            if same:
                return which
    if known[0] >= len(names):
        return -1
    found = known[0]
    names[found, 0] = count
    for k in range(count):
        names[found, 1 + k] = text[at + k]
    known[0] += 1
    return found
