"""Lines between chips aboard: sensors of the trim controller on SPI and I2C, the voyage logger's memory card.

Source: I2C-bus specification UM10204, revision 7, 3.1; SD Specifications, Part 1, Physical Layer Simplified
Specification 9.00, 4.5 (CRC7), 4.7.2, 4.9 (tokens).
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np

from keel.model.waveform import Logic

SPI_HZ, I2C_HZ = 1_000_000.0, 100_000.0
TEMPERATURE, NOBODY = 0x48, 0x4A
"""Addresses on the I2C line: the one that answers, and one of a sensor that was left out."""
SLOW_HZ, FAST_HZ = 400_000.0, 25_000_000.0
"""The clock of a card while it is asked who it is, and after that."""
CARD_ID = 0x1B4B454C_4C4F4731_10004711_8181A7
RELATIVE, READY, TRANSFER = 0x4711, 0x80FF8000, 0x900


class Drive:
    """A wire that is driven from the begin of what is recorded on."""

    def __init__(self, level: int) -> None:
        self._first = self._level = level
        self._edges: list[int] = []

    def to(self, time: float, level: int) -> None:
        """Drive it to a level, at a time in ns."""
        if level != self._level:
            self._edges.append(round(time))
            self._level = level

    def line(self, length: int) -> Logic:
        """What it did, in ns."""
        edges = np.array(self._edges, np.int64)
        return Logic(0, length, self._first, edges[edges < length])


def _bits(value: int, count: int) -> list[int]:
    return [value >> (count - 1 - k) & 1 for k in range(count)]


def spi_lines(transfers: Iterable[tuple[float, int, Sequence[int], Sequence[int]]], length: int) -> list[Logic]:
    """Clock, data out, data in and two selects, in mode 3.

    Args:
        transfers: When each begins in ns, its select, the bytes out, the bytes in.
        length: How long is recorded, in ns.
    """
    period = 1e9 / SPI_HZ
    clock, out, back = Drive(1), Drive(0), Drive(0)
    selects = [Drive(1), Drive(1)]
    for time, which, sent, answered in transfers:
        selects[which].to(time, 0)
        at = time + 0.8 * period
        for a, b in zip(sent, answered, strict=True):
            for one, other in zip(_bits(a, 8), _bits(b, 8), strict=True):
                clock.to(at, 0)
                out.to(at + 25, one)
                back.to(at + 60, other)
                clock.to(at + period / 2, 1)
                at += period
            at += 0.4 * period
        selects[which].to(at + 0.3 * period, 1)
    return [one.line(length) for one in (clock, out, back, *selects)]


Part = Sequence[tuple[int, int]]
"""Bytes, each with the level behind it that says whether it was acknowledged (0) or not."""


def i2c_lines(transfers: Iterable[tuple[float, Sequence[Part], float]], length: int) -> list[Logic]:
    """Clock and data.

    Args:
        transfers: When each begins in ns; its parts, joined by repeated starts: bytes and the level behind each that
            says whether it was acknowledged; for how long the clock is held low behind the first byte of the last part.
        length: How long is recorded, in ns.
    """
    period = 1e9 / I2C_HZ
    clock, data = Drive(1), Drive(1)
    for time, parts, held in transfers:
        at = time
        for number, part in enumerate(parts):
            data.to(at, 0)
            clock.to(at + 0.5 * period, 0)
            at += 0.5 * period
            for place, (byte, refused) in enumerate(part):
                for bit in [*_bits(byte, 8), refused]:
                    data.to(at + 0.12 * period, bit)
                    clock.to(at + 0.55 * period, 1)
                    clock.to(at + period, 0)
                    at += period
                if place == 0 and number == len(parts) - 1:
                    at += held
            is_last = number == len(parts) - 1
            data.to(at + 0.12 * period, int(not is_last))
            clock.to(at + 0.55 * period, 1)
            at += period
        data.to(at, 1)
    return [clock.line(length), data.line(length)]


def _crc7(bits: Sequence[int]) -> int:
    register = 0
    for bit in bits:
        follows = bit ^ register >> 6
        register = register << 1 & 0x7F ^ (0x09 if follows else 0)
    return register


def _token(from_host: bool, index: int, argument: int) -> list[int]:
    body = [0, int(from_host), *_bits(index, 6), *_bits(argument, 32)]
    return [*body, *_bits(_crc7(body), 7), 1]


def _register(value: int) -> list[int]:
    body = _bits(value, 120)
    return [0, 0, *[1] * 6, *body, *_bits(_crc7(body), 7), 1]


def card_opening() -> list[list[int]]:
    """How a host gets to know a card: tokens one after another."""

    def both(index: int, argument: int, status: int) -> list[list[int]]:
        return [_token(True, index, argument), _token(False, index, status)]

    return [
        _token(True, 0, 0), *both(8, 0x1AA, 0x1AA), *both(55, 0, 0x120), _token(True, 41, 0x40FF8000),
        [0, 0, *[1] * 6, *_bits(READY, 32), *[1] * 8], _token(True, 2, 0), _register(CARD_ID),
        *both(3, 0, RELATIVE << 16 | 0x520), *both(7, RELATIVE << 16, 0x700),
    ]  # fmt: skip


def card_write(block: int) -> list[list[int]]:
    """A block is written: the command with its response, then how the card is."""
    return [
        _token(True, 24, block), _token(False, 24, TRANSFER),
        _token(True, 13, RELATIVE << 16), _token(False, 13, TRANSFER),
    ]  # fmt: skip


def card_lines(tokens: Iterable[tuple[float, Sequence[Sequence[int]], float]], length: int) -> list[Logic]:
    """Clock and command line.

    Args:
        tokens: When some begin in ns, these one after another, the frequency of the clock meanwhile.
        length: How long is recorded, in ns.
    """
    clock, line = Drive(0), Drive(1)
    for time, some, rate in tokens:
        period, at = 1e9 / rate, time
        for bits in some:
            for bit in [*[1] * 8, *bits, *[1] * 2]:
                line.to(at + 0.1 * period, bit)
                clock.to(at + period / 2, 1)
                clock.to(at + period, 0)
                at += period
    return [clock.line(length), line.line(length)]
