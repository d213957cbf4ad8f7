"""Lines as they are driven, written from the standards: levels over time, and what wires do to them.

Source: ISO 11898-1:2015, 10.4, 10.5; EIA/TIA-232 for the order of start, data, parity and stop bits.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from keel.model.waveform import Logic

DLC = (0, 1, 2, 3, 4, 5, 6, 7, 8, 12, 16, 20, 24, 32, 48, 64)
Level = tuple[int, float]
"""A level, and for how many ns."""


def wave(levels: Iterable[Level], start: float = 0.0, first: int = 1) -> Logic:
    """A waveform of levels one after another."""
    at, now, edges = start, first, []
    begin = None
    for level, length in levels:
        if begin is None:
            begin, now = level, level
        if level != now:
            edges.append(round(at))
            now = level
        at += length
    return Logic(round(start), round(at), first if begin is None else begin, np.array(edges, np.int64))


def shaken(logic: Logic, jitter_ns: float, seed: int = 1) -> Logic:
    """Every edge somewhat early or late."""
    random = np.random.default_rng(seed)
    edges = np.sort(logic.edges + np.rint(random.normal(0, jitter_ns, len(logic.edges))).astype(np.int64))
    return Logic(logic.start, logic.end, logic.first, edges)


def skewed(logic: Logic, late_ns: int) -> Logic:
    """Rising edges late, as behind a slow driver."""
    edges = logic.edges.copy()
    level = logic.first
    for k in range(len(edges)):
        level ^= 1
        edges[k] += late_ns if level else 0
    return Logic(logic.start, logic.end, logic.first, edges)


# Serial lines.


def uart(data: bytes, rate: float, bits: int = 8, parity: str = "none", stop: float = 1.0, msb: bool = False,
         pauses: Sequence[float] = (), rest: float = 20.0) -> list[Level]:  # fmt: skip
    """Bytes on a line that rests high; ``pauses`` are bit times before each byte."""
    bit = 1e9 / rate
    out: list[Level] = [(1, rest * bit)]
    for number, byte in enumerate(data):
        if number < len(pauses) and pauses[number]:
            out.append((1, pauses[number] * bit))
        sent = [byte >> (bits - 1 - k if msb else k) & 1 for k in range(bits)]
        out.append((0, bit))
        out += [(one, bit) for one in sent]
        ones = sum(sent)
        if parity != "none":
            out.append(({"odd": 1 - ones % 2, "even": ones % 2, "mark": 1, "space": 0}[parity], bit))
        out.append((1, stop * bit))
    return [*out, (1, rest * bit)]


# CAN.


@dataclass(frozen=True)
class CanFrame:
    """A frame to be sent."""

    ident: int
    data: bytes = b""
    extended: bool = False
    remote: bool = False
    fd: bool = False
    brs: bool = False
    esi: bool = False
    iso: bool = True
    acknowledged: bool = True
    dlc: int | None = None
    spoil_crc: int = 0


def crc(bits: Sequence[int], width: int, polynomial: int, seed: int) -> int:
    """A checksum by the standard's shift register."""
    register = seed
    for bit in bits:
        follows = bit ^ (register >> (width - 1) & 1)
        register = register << 1 & (1 << width) - 1
        if follows:
            register ^= polynomial
    return register


def number(value: int, width: int) -> list[int]:
    return [value >> (width - 1 - k) & 1 for k in range(width)]


def stuffed(bits: Sequence[int], at_the_end: bool) -> list[int]:
    """With the complement after each five equal bits; ``at_the_end``: also after the last one."""
    out: list[int] = []
    run, last = 0, -1
    for place, bit in enumerate(bits):
        out.append(bit)
        run, last = (run + 1, last) if bit == last else (1, bit)
        if run == 5 and (place < len(bits) - 1 or at_the_end):
            out.append(1 - bit)
            run, last = 1, 1 - bit
    return out


def can_bits(frame: CanFrame) -> tuple[list[tuple[int, bool]], int]:
    """Levels and whether each is at the fast rate, up to the end of frame; and how many stuff bits there are."""
    dlc = DLC.index(len(frame.data)) if frame.dlc is None else frame.dlc
    if frame.extended:
        head = [0, *number(frame.ident >> 18, 11), 1, 1, *number(frame.ident & 0x3FFFF, 18)]
        head += [0 if frame.fd else int(frame.remote)]
    else:
        head = [0, *number(frame.ident, 11), 0 if frame.fd else int(frame.remote), 0]
    if frame.fd:
        head += [1, 0, int(frame.brs)]
        after = [int(frame.esi), *number(dlc, 4)]
    else:
        head += [0, 0] if frame.extended else [0]
        after = number(dlc, 4)
    data = [bit for byte in frame.data for bit in number(byte, 8)]
    body = head + after + data
    if not frame.fd:
        check = crc(body, 15, 0x4599, 0) ^ frame.spoil_crc
        sent = stuffed(body + number(check, 15), True)
        tail = [1, int(not frame.acknowledged), 1, *[1] * 7]
        return [(bit, False) for bit in sent + tail], len(sent) - len(body) - 15
    whole = stuffed(body, False)
    count = len(whole) - len(body)
    slow = len(stuffed(head, False)) if frame.brs else len(whole)
    width, polynomial = (17, 0x1685B) if len(frame.data) <= 16 else (21, 0x102899)
    counted: list[int] = []
    if frame.iso:
        gray = (count % 8) ^ (count % 8) >> 1
        counted = [*number(gray, 3), gray.bit_count() % 2]
    check = crc([*whole, *counted], width, polynomial, 1 << (width - 1) if frame.iso else 0) ^ frame.spoil_crc
    field = [*counted, *number(check, width)]
    fixed: list[int] = []
    last = whole[-1]
    for place, bit in enumerate(field):
        if place % 4 == 0:
            fixed.append(1 - last)
        fixed.append(bit)
        last = bit
    marked = [(bit, frame.brs and place >= slow) for place, bit in enumerate(whole)]
    marked += [(bit, frame.brs) for bit in fixed]
    marked += [(1, False), (int(not frame.acknowledged), False), (1, False), *[(1, False)] * 7]
    return marked, count


def can(frames: Sequence[CanFrame], slow: float, fast: float = 0.0, gap_bits: float = 11.0, switch: float = 0.8,
        rest: float = 20.0) -> tuple[list[Level], list[tuple[int, int]]]:  # fmt: skip
    """Frames on the line, and when each begins and ends its end of frame."""
    long, short = 1e9 / slow, 1e9 / (fast or slow)
    out: list[Level] = [(1, rest * long)]
    at = rest * long
    spans = []
    for frame in frames:
        begin = at
        bits, _ = can_bits(frame)
        for place, (level, is_fast) in enumerate(bits):
            length = short if is_fast else long
            follows = bits[place + 1][1] if place + 1 < len(bits) else is_fast
            if follows and not is_fast:
                # BRS: its first part at the nominal rate, what follows its sample point at the data rate.
                length = switch * long + (1 - switch) * short
            before = bits[place - 1][1] if place else is_fast
            if before and not is_fast:
                # The CRC delimiter, likewise.
                length = switch * short + (1 - switch) * long
            out.append((level, length))
            at += length
        spans.append((round(begin), round(at)))
        out.append((1, gap_bits * long))
        at += gap_bits * long
    return [*out, (1, rest * long)], spans
