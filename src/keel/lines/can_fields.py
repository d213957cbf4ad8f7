"""The fields of a CAN frame over its waveform, from the bits that it was read by.

Source: ISO 11898-1:2015, 10.4 (formats).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from keel.lines.can_bit_reader import FIELDS
from keel.lines.can_reader import CRC, STUFF
from keel.lines.can_wave import OVERLOAD_DELIMITER, CanRates, read_again
from keel.lines.code import Field
from keel.model.frames import FD_LENGTHS
from keel.model.waveform import Logic

_STUFFED, _SECOND_ID = FIELDS.index("stuff"), 4
_CRC, _COUNT, _DATA = FIELDS.index("crc"), FIELDS.index("stuff_count"), FIELDS.index("data")
MOST_AS_SAID = 8
"""Up to that a DLC is the number of bytes."""
_RESTS_HIGH = {"crc_delimiter": "form", "ack_delimiter": "form", "eof": "form"}
"""Fields of nothing but recessive bits, and the fault of those that are not."""
Run = tuple[str, int, int, list[int]]
"""A field's name, its begin and end in ns, its levels without stuffed ones."""


def fields_of(line: Logic, start: int, end: int, rates: CanRates) -> list[Field]:
    """The fields of the frame that begins at ``start`` and ends at ``end``, in ns; none where it cannot be found.

    A stuffed bit belongs to the field that it lies in; one behind the last bit of a field belongs to none.
    """
    bits, faults = read_again(line, start, rates)
    if not len(bits):
        return []
    if faults == STUFF and (flag := _overload_flag(line, start, end, rates)) is not None:
        return [flag]
    is_extended = bool((bits[:, 2] == _SECOND_ID).any())
    is_flexible = any(FIELDS[number] == "fdf" and level for _, level, number in bits.tolist())
    runs: list[tuple[int, Run]] = []
    for (begin, level, number), stop in zip(bits.tolist(), [*bits[1:, 0].tolist(), end], strict=True):
        if number == _STUFFED:
            continue
        if runs and runs[-1][0] == number:
            name, first, _, levels = runs[-1][1]
            runs[-1] = number, (name, first, stop, [*levels, level])
        else:
            runs.append((number, (_name(FIELDS[number], is_extended, is_flexible), begin, stop, [level])))
    expected = _expected_crc(bits, is_flexible) if faults & CRC else None
    fields = [_field(run, expected, is_flexible) for _, run in runs]
    if faults == STUFF and fields:
        # The sixth equal bit ends what can be read.
        fields[-1] = replace(fields[-1], end=end, fault="stuff")
    return fields


def _overload_flag(line: Logic, start: int, end: int, rates: CanRates) -> Field | None:
    """The flag of an overload frame, if it is one: all that is there is as long as flag and delimiter."""
    place = int(line.edges.searchsorted(start)) + 1
    if place >= len(line.edges):
        return None
    stop = int(line.edges[place])
    if abs(end - stop - OVERLOAD_DELIMITER * 1e9 / rates.slow) > 2:
        return None
    return Field("overload", start, stop, None, None, "overload")


def _name(name: str, is_extended: bool, is_flexible: bool) -> str:
    """What a bit is called in the format of its frame."""
    if name == "srr" and not is_extended:
        return "rtr"
    if name == "fdf" and not is_flexible:
        return "r1" if is_extended else "r0"
    return name


def _expected_crc(bits: Any, is_flexible: bool) -> str | None:
    """The checksum that a frame should have, in hex, by the bits ahead of it; None of one that ends before.

    In CAN FD it covers stuff bits too, but for those at fixed places, and begins with a 1 in ISO frames: those with a
    count of stuff bits.
    """
    numbers = bits[:, 2]
    tail = np.flatnonzero((numbers == _CRC) | (numbers == _COUNT))
    if not len(tail):
        return None
    first = int(tail[0])
    if not is_flexible:
        covered = bits[:first][numbers[:first] != _STUFFED]
        return f"{_remainder(covered[:, 1].tolist(), 15, 0x4599, 0):04X}"
    has_count = bool((numbers == _COUNT).any())
    count = bits[numbers == _COUNT, 1].tolist()
    # The bit right ahead of the tail stands at a fixed place.
    covered_levels = bits[: first - 1, 1].tolist() + count
    width = 17 if int((numbers == _DATA).sum()) <= SHORT_BITS else 21
    polynomial = 0x1685B if width == 17 else 0x102899
    seed = 1 << (width - 1) if has_count else 0
    return f"{_remainder(covered_levels, width, polynomial, seed):0{-(-width // 4)}X}"


SHORT_BITS = 128
"""CAN FD frames with so many bits of data at most have the checksum of 17 bits."""


def _remainder(levels: Sequence[int], width: int, polynomial: int, register: int) -> int:
    for level in levels:
        follows = register >> (width - 1) & 1 ^ level
        register = register << 1 & ((1 << width) - 1)
        register ^= polynomial if follows else 0
    return register


def _field(run: Run, expected: str | None, is_flexible: bool) -> Field:
    name, start, end, levels = run
    value = int("".join(map(str, levels)), 2)
    if name == "data":
        return Field(name, start, end, None, f"{value:0{len(levels) // 4}X}")
    text = f"{value:0{-(-len(levels) // 4)}X}" if name in ("id", "crc") else None
    if name == "dlc" and value > MOST_AS_SAID:
        text = f"{FD_LENGTHS[value] if is_flexible else MOST_AS_SAID} bytes"
    fault = None
    if name == "crc" and expected is not None:
        return Field(name, start, end, value, text, "crc", expected=expected)
    if name == "ack":
        fault = "ack" if value else None
    elif name in _RESTS_HIGH and not all(levels):
        fault = _RESTS_HIGH[name]
    return Field(name, start, end, value, text, fault)
