"""The lines of a bracketed log that look like most others, compiled: eight characters at a time, digits turned by
arithmetic on the word.

What is not as regular is left for the reader that looks at each character (`keel.formats.textlog`).
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from keel.model.frames import LENGTH_TO_DLC
from keel.model.words64 import byte_swapped, load_word, store_word, trailing_zeros, zero_bytes

PADDING = 80
"""So many bytes may be looked at beyond the end of the text."""
NAME_SLOTS = 64
"""Names of up to seven characters are looked up by their word."""
_ONES = np.uint64(0x0101010101010101)
_TOPS = np.uint64(0x8080808080808080)
_ZEROS = np.uint64(0x3030303030303030)
_SPACES = np.uint64(0x2020202020202020)
_SIXTEENTHS = np.uint64(0x0F0F0F0F0F0F0F0F)


@njit(cache=True, nogil=True, inline="always")
def all_digits(word: Any) -> Any:
    """Whether all eight characters are decimal digits."""
    high = np.uint64(0xF0F0F0F0F0F0F0F0)
    sixes = np.uint64(0x0606060606060606)
    return (word & high) == _ZEROS and ((word + sixes) & high) == _ZEROS


@njit(cache=True, nogil=True, inline="always")
def decimal(word: Any) -> Any:
    """The number that eight decimal digits are. Source: D. Lemire, Quickly parsing eight digits, 2022."""
    word -= _ZEROS
    word = word * np.uint64(10) + (word >> np.uint64(8))
    pairs = np.uint64(0x000000FF000000FF)
    low = (word & pairs) * np.uint64(0x000F424000000064)
    high = ((word >> np.uint64(16)) & pairs) * np.uint64(0x0000271000000001)
    return np.int64((low + high) >> np.uint64(32))


@njit(cache=True, nogil=True, inline="always")
def hex_there(word: Any) -> Any:
    """The top bit of each character that is a hex digit."""
    lower = word | _SPACES
    digit = (word + np.uint64(0x5050505050505050)) & ~(word + np.uint64(0x4646464646464646))
    letter = (lower + np.uint64(0x1F1F1F1F1F1F1F1F)) & ~(lower + np.uint64(0x1919191919191919))
    return (digit | letter) & ~word & _TOPS


@njit(cache=True, nogil=True, inline="always")
def hex_bytes(word: Any) -> Any:
    """The four bytes that eight hex digits are, the first one lowest."""
    nibbles = (word & _SIXTEENTHS) + np.uint64(9) * ((word >> np.uint64(6)) & _ONES)
    pairs = ((nibbles << np.uint64(4)) | (nibbles >> np.uint64(8))) & np.uint64(0x00FF00FF00FF00FF)
    pairs = (pairs | (pairs >> np.uint64(8))) & np.uint64(0x0000FFFF0000FFFF)
    return (pairs | (pairs >> np.uint64(16))) & np.uint64(0xFFFFFFFF)


@njit(cache=True, nogil=True)
def regular(text: Any, at: Any, size: Any, slots: Any, out: Any, data: Any, n: Any, used: Any, flags_of: Any) -> Any:
    """Take regular lines until one is not.

    A line is regular if its time has ten digits before the point and six or nine after, its bus is known and has at
    most seven characters, single spaces part its pieces, and it is no remote request and no error frame.

    Args:
        text: Bytes, with `PADDING` more after ``size``.
        at: Where a line begins.
        slots: Words of known bus names and, beside each, its index; shape (`NAME_SLOTS`, 2).
        out: Columns to fill: time, bus, form, ident, flags, dlc, payload length.
        data: Payload bytes to fill.
        n, used: Frames and payload bytes so far.
        flags_of: The flags that each digit of an FD frame means.

    Returns:
        Frames, payload bytes, where it stopped.
    """
    time, bus, form, ident, flags, dlc, length = out
    known_word, known_seconds = np.uint64(0), np.int64(0)
    # As an unsigned number: an index that cannot be negative needs no look whether it is.
    row, one = np.uint64(n), np.uint64(1)
    byte = np.uint64(0xFF)
    while at < size:
        word = load_word(text, at + 1)
        rest = load_word(text, at + 9)
        if load_word(text, at) & byte != np.uint64(40) or (rest >> np.uint64(16)) & byte != np.uint64(46):
            break
        if word != known_word:
            if not all_digits(word):
                break
            known_word, known_seconds = word, decimal(word) * 100
        tens, ones = np.int64(rest & byte) - 48, np.int64((rest >> np.uint64(8)) & byte) - 48
        if not (0 <= tens <= 9 and 0 <= ones <= 9) or known_seconds > 9_000_000_000:
            break
        fraction = load_word(text, at + 12)
        if fraction >> np.uint64(48) == np.uint64(0x2029):
            fraction = (fraction << np.uint64(16)) | np.uint64(0x3030)
            if not all_digits(fraction):
                break
            ns, place = decimal(fraction) * 1000, at + 20
        else:
            end = load_word(text, at + 20)
            last = np.int64(end & byte) - 48
            if not 0 <= last <= 9 or (end >> np.uint64(8)) & np.uint64(0xFFFF) != np.uint64(0x2029):
                break
            if not all_digits(fraction):
                break
            ns, place = decimal(fraction) * 10 + last, at + 23
        name = load_word(text, place)
        spaces = zero_bytes(name ^ _SPACES)
        if spaces == 0:
            break
        count = trailing_zeros(spaces) >> 3
        if count == 0:
            break
        name &= (one << np.uint64(8 * count)) - one
        slot = (name * np.uint64(0x9E3779B97F4A7C15)) >> np.uint64(58)
        if slots[slot, 0] != name:
            break
        place += count + 1
        word = load_word(text, place)
        if (word >> np.uint64(24)) & byte == np.uint64(35):
            word = (word << np.uint64(40)) | np.uint64(0x3030303030)
            kind, after = 0, place + 4
        elif load_word(text, place + 8) & byte == np.uint64(35):
            kind, after = 1, place + 9
        else:
            break
        if hex_there(word) != _TOPS:
            break
        number = np.int64(byte_swapped(hex_bytes(word)) >> np.uint64(32))
        if number > (0x1FFF_FFFF if kind else 0x7FF):
            break
        flag, most = 0, 8
        word = load_word(text, after)
        if word & byte == np.uint64(35):
            digit = np.int64((word >> np.uint64(8)) & byte)
            digit = digit - 48 if 48 <= digit <= 57 else (digit | 32) - 87
            if not 0 <= digit <= 15:
                break
            flag, most, after = flags_of[digit], 64, after + 2
            word = load_word(text, after)
        took = 0
        left = 8
        while took <= most:
            there = hex_there(word)
            store_word(data, used + took, hex_bytes(word))
            if there == _TOPS:
                took += 4
                after += 8
                word = load_word(text, after)
                continue
            left = trailing_zeros(~there & _TOPS) >> 3
            took += left >> 1
            after += left
            break
        if left & 1 or left == 8 or took > most:
            break
        end = load_word(text, after)
        if end & byte == np.uint64(13):
            after += 1
            end >>= np.uint64(8)
        if end & byte != np.uint64(10):
            break
        time[row] = (known_seconds + tens * 10 + ones) * 1_000_000_000 + ns
        bus[row], form[row], ident[row], flags[row] = slots[slot, 1], kind, number, flag
        dlc[row], length[row] = LENGTH_TO_DLC[np.uint64(took)], took
        used += took
        row += one
        at = after + 1
    return np.int64(row), used, at


@njit(cache=True, nogil=True)
def learn_name(names: Any, which: Any, slots: Any) -> None:
    """Put a bus name among those that are looked up by their word, if it is short and its place is free."""
    count = np.int64(names[which, 0])
    if count > 7:
        return
    name = np.uint64(0)
    for k in range(count):
        name |= np.uint64(names[which, 1 + k]) << np.uint64(8 * k)
    slot = np.int64((name * np.uint64(0x9E3779B97F4A7C15)) >> np.uint64(58))
    if slots[slot, 0] == 0:
        slots[slot, 0], slots[slot, 1] = name, which
