"""The bits of a frame over its waveform, and the bytes inside its data: what is seen of it from close by."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from keel.lines.can_bit_reader import FIELDS
from keel.lines.can_reader import EITHER
from keel.lines.can_wave import CanRates, bits_of
from keel.lines.clocked import Wires, edges_to, wire
from keel.lines.code import Field, How
from keel.lines.pulses import glitch_free, window
from keel.lines.uart import Serial, decode
from keel.model.waveform import Logic

GLITCH = 0.3
"""Pulses shorter than that share of a bit are none."""
_DATA, _STUFF = FIELDS.index("data"), FIELDS.index("stuff")
OF_BYTES = ("uart", "lin", "kline")


@dataclass(frozen=True)
class Bit:
    """A bit on the wire.

    Attributes:
        start, end: In ns.
        level: What it says: 0 or 1.
        is_stuff: Whether it was put in and says nothing.
    """

    start: int
    end: int
    level: int
    is_stuff: bool = False


@dataclass(frozen=True)
class Close:
    """A frame from close by: its bits in order, and the bytes of its data where one field holds them all."""

    bits: tuple[Bit, ...] = ()
    bytes: tuple[Field, ...] = ()


NOTHING = Close()


def bits_of_wire(code: str, line: Logic, how: How, fields: Sequence[Field]) -> Close:
    """The bits of a frame of a line of one wire.

    Args:
        code: The code's word.
        line: The line as it was read.
        how: How it was read.
        fields: The frame's fields.
    """
    if not fields:
        return NOTHING
    if code in ("can", "canfd"):
        return _of_can(line, how, fields)
    if code in OF_BYTES:
        return _of_bytes(line, how, fields[0].start, fields[-1].end)
    if code == "manchester":
        bits = [bit for one in fields if one.name == "byte" for bit in _even(one, 8, True)]
        return Close(tuple(bits))
    return NOTHING


def bits_of_wires(wires: Wires, how: How, fields: Sequence[Field]) -> Close:
    """The bits of a frame of a line that goes by a clock: one for each time that it turns within a field."""
    clock = wire(wires, "clock")
    if clock is None or not fields:
        return NOTHING
    part = window(clock, fields[0].start - 1, fields[-1].end + 1)
    # A bit begins where the clock turns to the level by which nothing is taken.
    turns = edges_to(part, 1 - int(how.numbers.get("rising", how.numbers.get("level", 1))))
    is_msb_first = str(how.settings.get("order", "msb")) == "msb"
    bits: list[Bit] = []
    for one in fields:
        if one.value is None or one.name in ("start", "stop"):
            continue
        inside = turns[(turns > one.start) & (turns < one.end)]
        edges = [one.start, *inside.tolist(), one.end]
        count = len(edges) - 1
        for place, (start, end) in enumerate(zip(edges, edges[1:], strict=False)):
            shift = count - 1 - place if is_msb_first else place
            bits.append(Bit(start, end, int(one.value) >> shift & 1))
    return Close(tuple(bits))


def _of_can(line: Logic, how: How, fields: Sequence[Field]) -> Close:
    numbers = how.numbers
    rates = CanRates(numbers["slow"], numbers["fast"], numbers["turn"], int(numbers.get("usual", EITHER)))
    start, end = fields[0].start, fields[-1].end
    around = 20 * 1e9 / rates.slow
    part = window(line, start - round(around), end + round(around))
    clean = glitch_free(part, GLITCH * 1e9 / max(rates.slow, rates.fast))
    read = bits_of(clean, start, rates)
    rows = read[read[:, 0] < end] if len(read) else read
    if not len(rows):
        return NOTHING
    stops = [*rows[1:, 0].tolist(), end]
    bits = [
        Bit(begin, stop, level, number == _STUFF)
        for (begin, level, number), stop in zip(rows.tolist(), stops, strict=True)
    ]
    # A byte lies from its first bit to the begin of the next one's; stuff bits in it are its own.
    places = np.flatnonzero(rows[:, 2] == _DATA)
    found = []
    for first in range(0, len(places) - 7, 8):
        mine = places[first : first + 8]
        value = int("".join(map(str, rows[mine, 1].tolist())), 2)
        found.append(Field("byte", int(rows[mine[0], 0]), stops[int(mine[-1])], value, f"{value:02X}"))
    return Close(tuple(bits), tuple(found))


def _of_bytes(line: Logic, how: How, start: int, end: int) -> Close:
    said = how.settings
    serial = Serial(
        how.numbers["rate"], said.get("bits", 8), said.get("parity", "none"), said.get("stop", 1.0),
        said.get("order", "lsb"),
    )  # fmt: skip
    bit = serial.bit_ns
    clean = glitch_free(window(line, start - round(bit), end + round(2 * bit)), GLITCH * bit)
    # It rests before a message begins, whatever was there before.
    edges = clean.edges[clean.edges >= start]
    quiet = Logic(start - round(40 * bit), clean.end, 1, edges, clean.unknown)
    sent = decode(quiet, serial)
    bits: list[Bit] = []
    found = []
    for begin, stop, value in zip(sent.starts.tolist(), sent.ends.tolist(), sent.values.tolist(), strict=True):
        if begin >= end:
            break
        found.append(Field("byte", begin, stop, value, f"{value:02X}"))
        count = max(round((stop - begin) / bit), 1)
        for place in range(count):
            middle = begin + (place + 0.5) * bit
            level = quiet.level_at(round(middle))
            bits.append(Bit(begin + round(place * bit), min(begin + round((place + 1) * bit), stop), level))
    return Close(tuple(bits), tuple(found))


def _even(field: Field, count: int, is_msb_first: bool) -> list[Bit]:
    """The bits of a field that are all of one length."""
    length, value = (field.end - field.start) / count, int(field.value or 0)
    found = []
    for place in range(count):
        shift = count - 1 - place if is_msb_first else place
        start = field.start + round(place * length)
        found.append(Bit(start, field.start + round((place + 1) * length), value >> shift & 1))
    return found
