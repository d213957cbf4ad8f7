"""The command line of memory cards: tokens of 48 or 136 bits, each bit taken by an edge of the clock.

Source: SD Specifications, Part 1, Physical Layer Simplified Specification 9.00, 4.5 (CRC7), 4.7.2 (commands), 4.9
(responses R1 to R7), 4.12 (times).
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numba import njit

from keel.lines.clocked import (
    ClockedCode,
    Wires,
    edges_to,
    known_stretches,
    levels_before,
    over,
    wire,
)
from keel.lines.code import Asked, Field, Guess, How
from keel.lines.evidence import Evidence, certainty, different_frames
from keel.lines.framing import frames_of
from keel.lines.pulses import busy
from keel.media.card import COMMAND, HEADER_BYTES, RESPONSE
from keel.model.bus import Bus
from keel.model.faults import Fault
from keel.model.frames import Flag, FrameBatch, concat
from keel.model.units import frequency_words
from keel.model.waveform import Logic

SHORT, LONG = 48, 136
ANSWERED_LONG, ANSWERED_PLAIN = (2, 9, 10), (1, 5, 41)
"""After these commands the card answers with its register (R2), or with no checksum (R3, R4)."""
IDLE_BITS, PAUSE_PERIODS = 2, 16
FIRST, BITS, CRC_WRONG, NO_END = range(4)
"""Columns of a token: its first bit, how many it has, what is wrong with it."""


@njit(cache=True, nogil=True)
def crc7(bits: Any, begin: Any, end: Any) -> Any:
    """The remainder by x⁷ + x³ + 1 of some bits."""
    register = 0
    for k in range(begin, end):
        follows = (register >> 6 & 1) ^ bits[k]
        register = (register << 1 & 0x7F) ^ (0x09 if follows else 0)
    return register


@njit(cache=True, nogil=True)
def _number(bits: Any, begin: Any, count: Any) -> Any:
    value = 0
    for k in range(begin, begin + count):
        value = value << 1 | bits[k]
    return value


@njit(cache=True, nogil=True)
def read_tokens(bits: Any, out: Any) -> Any:
    """Read the tokens among the bits of the command line.

    Args:
        bits: Shape (n,).
        out: Filled with columns as `FIRST` and its like say, shape (m, 4).

    Returns:
        How many tokens.
    """
    n = ones = i = 0
    asked = -1
    count = len(bits)
    while i < count:
        if bits[i] == 1:
            ones += 1
            i += 1
            continue
        # What is cut by the begin is none.
        if ones < 2 or i + 48 > count:
            ones = 0
            i += 1
            continue
        index = _number(bits, i + 2, 6)
        from_host = bits[i + 1] == 1
        length, is_checked = 48, True
        begin = i
        if not from_host and index == 0x3F:
            short_plain = _number(bits, i + 40, 8) == 0xFF
            is_long = asked in ANSWERED_LONG
            if not is_long and asked not in ANSWERED_PLAIN and i + 136 <= count:
                is_long = crc7(bits, i + 8, i + 128) == _number(bits, i + 128, 7) or not short_plain
            if is_long:
                if i + 136 > count:
                    break
                length, begin = 136, i + 8
            else:
                is_checked = False
        end = i + length - 8
        wrong = is_checked and crc7(bits, begin, end) != _number(bits, end, 7)
        out[n, 0], out[n, 1], out[n, 2], out[n, 3] = i, length, wrong, bits[i + length - 1] == 0
        asked = index if from_host else -1
        n += 1
        i += length
        ones = IDLE_BITS
    return n


def _bits(clock: Logic, command: Logic, level: int) -> tuple[Any, Any]:
    """The command line at each edge of the clock to a level, and when these are."""
    taken = edges_to(clock, level)
    return levels_before(command, taken), taken


def _tokens(bits: Any) -> Any:
    out = np.zeros((len(bits) // SHORT + 1, 4), np.int64)
    return out[: read_tokens(bits, out)]


def read(wires: Wires, asked: Asked) -> list[Guess]:
    """A line read as a card's, by either edge of the clock."""
    command = wire(wires, "command")
    if command is None or wire(wires, "clock") is None:
        return []
    found = [guess for level in (1, 0) if (guess := _by_edge(wires, command, level)) is not None]
    # Where both edges tell the same it is the one that rises.
    return sorted(found, key=lambda guess: guess.faulty)[:1]


def _by_edge(wires: Wires, command: Logic, level: int) -> Guess | None:
    parts = []
    for part in known_stretches(wires):
        c, d = wire(part, "clock"), wire(part, "command")
        assert c is not None and d is not None
        bits, taken = _bits(c, d, level)
        table = _tokens(bits)
        if len(table):
            parts.append(_frames(table, bits, taken, d))
    if not parts:
        return None
    frames = concat(parts)
    good = frames.faults == 0
    assert frames.duration is not None and frames.header is not None
    clocks = frames.header.view(np.uint32).ravel()
    rate = float(np.median(clocks))
    ends = frames.time + frames.duration
    share = _explained(command, frames.time, ends, good, PAUSE_PERIODS * 1e9 / max(rate, 1.0))
    said = () if clocks.max() < 1.1 * clocks.min() else (_changes(clocks),)
    bus = Bus("", round(rate), medium="card", stamp="start", assumed=False)
    faulty = int((~good).sum())
    settings = {"edge": "rising" if level else "falling"}
    how = {"rate": rate, "level": float(level)}
    right = different_frames(frames.take(np.flatnonzero(good)))
    evidence = Evidence(right * A_TOKEN * certainty(1 - float(good.mean())), 4.0)
    return Guess(
        "card", rate, None, False, settings, frames, bus, share, evidence, "with a right CRC", faulty, said, how
    )


A_TOKEN = 9.0
"""Bits that a right token foretells: seven of its checksum, the end bit, and the start bit after a rest."""


def _explained(command: Logic, starts: Any, ends: Any, good: Any, pause_ns: float) -> float:
    """The share of the line's active time that good tokens cover. How long a pause is changes with the clock: what is
    active are tokens, and what changes outside of them."""
    place = np.searchsorted(starts, command.edges, side="right") - 1
    outside = (place < 0) | (command.edges > ends[np.maximum(place, 0)])
    begins, stops = busy(replace(command, edges=command.edges[outside]), pause_ns)
    took = (ends - starts).astype(np.float64)
    whole = float(took.sum() + (stops - begins).sum())
    return float(took[good].sum()) / whole if whole > 0 else 0.0


def _changes(clocks: Any) -> str:
    return f"the clock changes: from {frequency_words(float(clocks.min()))} to {frequency_words(float(clocks.max()))}"


def _spans(table: Any, taken: Any, command: Logic) -> tuple[Any, Any, Any]:
    """Begin and end of tokens in ns, and the period of the clock meanwhile."""
    first, last = taken[table[:, FIRST]], taken[table[:, FIRST] + table[:, BITS] - 1]
    period = (last - first) / (table[:, BITS] - 1)
    # The line falls somewhat before the first bit is taken.
    place = np.maximum(np.searchsorted(command.edges, first, side="left") - 1, 0)
    starts = command.edges[place]
    ends = last + np.rint(period - np.minimum(first - starts, period)).astype(np.int64)
    return starts, np.maximum(ends, last), period


def _frames(table: Any, bits: Any, taken: Any, command: Logic) -> FrameBatch:
    starts, ends, period = _spans(table, taken, command)
    is_long = table[:, BITS] == LONG
    head = bits[table[:, FIRST][:, None] + np.arange(8)]
    index = np.packbits(head, axis=1)[:, 0] & 0x3F
    from_host = head[:, 1] == 1
    sizes = np.where(is_long, 15, 4)
    offsets = np.concatenate([[0], np.cumsum(sizes)])
    which = np.repeat(np.arange(len(table)), sizes)
    at = table[which, FIRST] + 8 + (np.arange(offsets[-1]) - offsets[which]) * 8
    data = np.packbits(bits[at[:, None] + np.arange(8)], axis=1)[:, 0]
    faults = np.where(table[:, CRC_WRONG] != 0, np.uint32(Fault.CRC), np.uint32(0))
    faults |= np.where(table[:, NO_END] != 0, np.uint32(Fault.END_BIT), np.uint32(0))
    clocks = np.rint(1e9 / np.maximum(period, 0.25)).astype("<u4").view(np.uint8).reshape(-1, HEADER_BYTES)
    form = np.where(from_host, COMMAND.number, RESPONSE.number)
    flags = np.where(from_host, int(Flag.TX), 0)
    return frames_of(starts.copy(), ends, form, index, offsets, data, faults, flags, np.ascontiguousarray(clocks))


def explain(wires: Wires, how: How, start: int, end: int, form: int) -> list[Field]:
    """The fields of a token."""
    around = over(wires, start - round(12e9 / how.numbers["rate"]), end + round(12e9 / how.numbers["rate"]))
    clock, command = wire(around, "clock"), wire(around, "command")
    assert clock is not None and command is not None
    bits, taken = _bits(clock, command, int(how.numbers["level"]))
    first = int(np.searchsorted(taken, start, side="right"))
    if first >= len(taken):
        return []
    rest = bits[first:]
    count = LONG if _looks_long(taken[first:], end, len(rest)) else SHORT
    if len(rest) < count:
        return []
    mine = rest[:count]
    starts, period = start, (taken[first + count - 1] - taken[first]) / (count - 1)

    def at(bit: int) -> int:
        return starts + round(bit * period)

    data = np.packbits(mine[8:-8])
    said = bytes(data.tolist())
    index, check = int(_number(mine, 2, 6)), int(_number(mine, count - 8, 7))
    is_plain = form == RESPONSE.number and index == 0x3F and count == SHORT
    wanted = int(crc7(mine, 8 if count == LONG else 0, count - 8))
    right = is_plain or wanted == check
    name = "argument" if form == COMMAND.number else "register" if count == LONG else "status"
    value = int.from_bytes(said, "big") if count == SHORT else None
    return [
        Field("start", at(0), at(1), 0),
        Field("transmission", at(1), at(2), int(mine[1]), "host" if mine[1] else "card"),
        Field("index", at(2), at(8), index, str(index), None, bytes(np.packbits(mine[:8]).tolist())),
        Field(name, at(8), at(count - 8), value, said.hex().upper(), None, said),
        Field("crc", at(count - 8), at(count - 1), check, f"{check:02X}", None if right else Fault.CRC.word,
              bytes(np.packbits(mine[-8:]).tolist()), None if right else f"{wanted:02X}"),
        Field("end", at(count - 1), at(count), int(mine[-1]), None, None if mine[-1] else Fault.END_BIT.word),
    ]  # fmt: skip


def _looks_long(taken: Any, end: int, have: int) -> bool:
    """Whether a token from begin to end has 136 bits and not 48."""
    return have >= LONG and int(np.searchsorted(taken, end, side="right")) > (SHORT + LONG) // 2


CARD = ClockedCode(
    "card",
    "memory card",
    ("clock", "command"),
    {"clock": ("clk", "clock", "sdclk", "ck"), "command": ("cmd", "command")},
    {"command": None},
    read,
    explain,
    lambda how: int(how.numbers["level"]),
)
