"""Lines between chips as they are driven, written from the standards: a clock and what goes by it.

Source: I2C-bus specification UM10204, revision 7, 3.1; SD Specifications, Part 1, Physical Layer Simplified
Specification 9.00, 4.5, 4.7.2, 4.9; data sheets of the trade for the four modes of SPI.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from keel.model.waveform import Logic


@dataclass
class Wire:
    """A wire that is driven: its level, and when it changed."""

    level: int
    first: int = field(init=False)
    edges: list[int] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.first = self.level

    def drive(self, time: float, level: int) -> None:
        if level != self.level:
            self.edges.append(round(time))
            self.level = level

    def logic(self, end: float) -> Logic:
        return Logic(0, round(end), self.first, np.array(self.edges, np.int64))


def bits_of(value: int, count: int) -> list[int]:
    return [value >> (count - 1 - k) & 1 for k in range(count)]


# I2C.

Byte = tuple[int, int]
"""A byte, and the level of the acknowledgement behind it (0: it is acknowledged)."""


def i2c(
    transfers: Sequence[Sequence[Byte]],
    rate: float = 400e3,
    again: Sequence[int] = (),
    held: dict[int, float] | None = None,
) -> dict[str, Logic]:
    """Transfers from start to stop; ``again`` are those that a repeated start follows instead of a stop.

    Args:
        transfers: What is sent.
        rate: Of the clock.
        again: Numbers of transfers.
        held: After how many bytes in all the clock is held low, for how many ns.
    """
    period, sent = 1e9 / rate, 0
    scl, sda = Wire(1), Wire(1)
    at = 10 * period
    for number, transfer in enumerate(transfers):
        sda.drive(at, 0)
        at += period / 2
        scl.drive(at, 0)
        for byte, no in transfer:
            for bit in [*bits_of(byte, 8), no]:
                sda.drive(at + 0.1 * period, bit)
                scl.drive(at + 0.5 * period, 1)
                scl.drive(at + period, 0)
                at += period
            sent += 1
            at += (held or {}).get(sent, 0.0)
        ends = number not in again
        sda.drive(at + 0.1 * period, int(not ends))
        scl.drive(at + 0.5 * period, 1)
        at += period
        if ends:
            sda.drive(at, 1)
            at += 5 * period
    return {"scl": scl.logic(at + 10 * period), "sda": sda.logic(at + 10 * period)}


# SPI.


@dataclass(frozen=True)
class Both:
    """A transfer: what goes out, what comes in, as words; the number of the select."""

    out: Sequence[int]
    back: Sequence[int]
    select: int = 0
    left_over: int = 0


def spi(
    transfers: Sequence[Both], rate: float = 2e6, mode: int = 0, word: int = 8, lsb: bool = False, selects: int = 1,
    gap: float = 8.0,
) -> dict[str, Logic]:  # fmt: skip
    """Transfers in a mode; ``gap`` are periods between them."""
    period, polarity, phase = 1e9 / rate, mode >> 1, mode & 1
    clock, out, back = Wire(polarity), Wire(0), Wire(0)
    chosen = [Wire(1) for _ in range(selects)]
    at = 10 * period
    for one in transfers:
        if selects:
            chosen[one.select].drive(at, 0)
        pairs = []
        for a, b in zip(one.out, one.back, strict=True):
            both = list(zip(bits_of(a, word), bits_of(b, word), strict=True))
            pairs += both[::-1] if lsb else both
        pairs += [(1, 0)] * one.left_over
        at += period / 2
        for a, b in pairs:
            # Phase 0: data is there before the first edge; phase 1: it comes with it.
            change = at if phase else at - 0.45 * period
            out.drive(change + 0.02 * period, a)
            back.drive(change + 0.1 * period, b)
            clock.drive(at, 1 - polarity)
            clock.drive(at + period / 2, polarity)
            at += period
        if selects:
            chosen[one.select].drive(at, 1)
        at += gap * period
    end = at + 10 * period
    lines = {"sck": clock.logic(end), "mosi": out.logic(end), "miso": back.logic(end)}
    return lines | {f"cs{number}" if selects > 1 else "cs": one.logic(end) for number, one in enumerate(chosen)}


# Memory cards.


def crc7(bits: Sequence[int]) -> int:
    """By the standard's shift register: x⁷ + x³ + 1."""
    register = 0
    for bit in bits:
        follows = bit ^ (register >> 6)
        register = register << 1 & 0x7F
        if follows:
            register ^= 0x09
    return register


def command(index: int, argument: int) -> list[int]:
    """A command's token."""
    body = [0, 1, *bits_of(index, 6), *bits_of(argument, 32)]
    return [*body, *bits_of(crc7(body), 7), 1]


def response(index: int, status: int) -> list[int]:
    """R1, R6, R7."""
    body = [0, 0, *bits_of(index, 6), *bits_of(status, 32)]
    return [*body, *bits_of(crc7(body), 7), 1]


def register(value: int) -> list[int]:
    """R2: a register of 15 bytes with its own checksum."""
    body = bits_of(value, 120)
    return [0, 0, *[1] * 6, *body, *bits_of(crc7(body), 7), 1]


def conditions(value: int) -> list[int]:
    """R3: without a checksum."""
    return [0, 0, *[1] * 6, *bits_of(value, 32), *[1] * 8]


def card(
    tokens: Sequence[tuple[list[int], float]], launched_rising: bool = False, idle_clocks: int = 8
) -> dict[str, Logic]:
    """Tokens, each with the frequency of the clock meanwhile, that stands still between pairs of them.

    Args:
        tokens: Bits and Hz.
        launched_rising: Whether bits change after edges that rise, as at high speed, or at those that fall.
        idle_clocks: Clocks ahead of each token.
    """
    clock, line = Wire(0), Wire(1)
    at = 1000.0
    for bits, rate in tokens:
        period = 1e9 / rate
        for bit in [*[1] * idle_clocks, *bits, *[1] * 2]:
            # The bit is on the line from one edge on and is taken by the one that rises a little before the next.
            line.drive(at + (0.2 * period if launched_rising else 0), bit)
            clock.drive(at + period / 2 if not launched_rising else at + period, 1)
            clock.drive(at + period if not launched_rising else at + 1.5 * period, 0)
            at += period
    end = at + 5000
    return {"clk": clock.logic(end), "cmd": line.logic(end)}
