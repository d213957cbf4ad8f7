"""Fields of a frame's header: what it says of itself beside its identifier and payload."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np

from keel.model.frames import Bytes, Mask

Shown = Literal["number", "hex", "bytes", "yes", "word", "word and number"]
MOST_BITS = 63
"""Fields of more bits are shown as they are; nothing is compared with them."""


@dataclass(frozen=True)
class HeaderField:
    """A field of the header.

    Attributes:
        name: As an ask and JSON have it.
        title: What it is, in a few words.
        start, bits: Its least significant bit in the header, and how many it has; little-endian.
        signed: Whether it is a two's complement number.
        unit: What its number counts.
        texts: What its numbers mean, by number.
        shown: How JSON says it.
        in_bits: Whether the header's bits, as drawn, show it already.
        when: Bits of the header (start, count) and the value without which there is no such field; None: always.
    """

    name: str
    title: str
    start: int
    bits: int
    signed: bool = False
    unit: str = ""
    texts: Mapping[int, str] = field(default_factory=dict)
    shown: Shown = "number"
    when: tuple[int, int, int] | None = None
    in_bits: bool = False

    @property
    def is_number(self) -> bool:
        """Whether it can be compared."""
        return self.bits <= MOST_BITS

    def numbers(self, header: Bytes) -> tuple[Any, Mask]:
        """Its number in each header, and whether it is there; both shape (n,).

        Args:
            header: Headers, shape (n, bytes).
        """
        values = _bits(header, self.start, self.bits)
        if self.signed:
            sign = np.uint64(1 << (self.bits - 1))
            values = (values ^ sign) - sign
        there = np.ones(len(header), np.bool_)
        if self.when is not None:
            at, count, value = self.when
            there = _bits(header, at, count) == np.uint64(value)
        return values.view(np.int64) if self.is_number else values, there

    def says(self, number: int) -> Any:
        """A number as JSON has it."""
        if self.shown in ("hex", "bytes"):
            return self._hex(number)
        if self.shown == "yes":
            return bool(number)
        if self.shown == "word":
            return self.texts.get(number, number)
        return [self.texts.get(number), number] if self.shown == "word and number" else number

    def _hex(self, number: int) -> str:
        if self.shown == "bytes":
            return number.to_bytes(self.bits // 8, "little").hex().upper()
        return f"{number:0{-(-self.bits // 4)}X}"

    def text(self, number: int) -> str:
        """A number as people read it."""
        if self.shown in ("hex", "bytes"):
            return self._hex(number)
        if self.shown == "yes":
            return "yes" if number else "no"
        if self.unit == "ns":
            return f"{number / 1e6:.3f} ms" if number >= 1_000_000 else f"{number / 1e3:.1f} µs"
        word = self.texts.get(number)
        return word if word is not None else f"{number} {self.unit}".replace("-", "−").rstrip()


def _bits(header: Bytes, start: int, count: int) -> Any:
    """So many bits of each header as a number, from bit ``start`` on; bit 0 is the least significant of byte 0."""
    first, last = start // 8, (start + count - 1) // 8
    values = np.zeros(len(header), np.uint64)
    for byte in range(first, min(last + 1, header.shape[1])):
        values |= header[:, byte].astype(np.uint64) << np.uint64(8 * (byte - first))
    values >>= np.uint64(start % 8)
    return values & np.uint64((1 << count) - 1)


def first_row(fields: tuple[HeaderField, ...], header: Bytes) -> dict[str, tuple[HeaderField, int | None]]:
    """Each field of one frame's header by name, and its number; None where it is not there."""
    found = {}
    for one in fields:
        numbers, there = one.numbers(header[:1])
        found[one.name] = one, int(numbers[0]) if there[0] else None
    return found
