"""Bit fields in payloads: where they lie, and their values as columns.

Bit 0 is the least significant bit of byte 0. A little-endian field is named by its least significant
bit, a big-endian field by its most significant bit: the convention of signal databases.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import numpy as np
import numpy.typing as npt

from keel.errors import FieldError

Order = Literal["little", "big"]


def next_bit_down(bit: int) -> int:
    """The next less significant bit of a big-endian field; at a byte's bit 0 it is bit 7 of the next byte."""
    return bit - 1 if bit % 8 else bit + 15


def next_bit_up(bit: int) -> int:
    """The next more significant bit of a big-endian field. Negative above byte 0."""
    return bit + 1 if bit % 8 != 7 else bit - 15


def bit_above(bit: int, order: Order) -> int:
    """The next more significant bit of a field of some byte order. Negative above byte 0."""
    return bit + 1 if order == "little" else next_bit_up(bit)


@dataclass(frozen=True)
class BitField:
    """A run of 1 to 64 payload bits read as one integer."""

    start: int
    length: int
    order: Order = "little"
    signed: bool = False

    def __post_init__(self) -> None:
        if not 1 <= self.length <= 64:
            raise FieldError(f"a field has 1 to 64 bits, not {self.length}")
        if self.start < 0:
            raise FieldError(f"a field cannot start at bit {self.start}")

    @cached_property
    def bits(self) -> tuple[int, ...]:
        """Bit numbers from the least to the most significant."""
        if self.order == "little":
            return tuple(range(self.start, self.start + self.length))
        bits = [self.start]
        for _ in range(self.length - 1):
            bits.append(next_bit_down(bits[-1]))
        return tuple(reversed(bits))

    @cached_property
    def last_byte(self) -> int:
        """The highest byte the field touches: shorter payloads do not carry it."""
        return max(self.bits) // 8

    @cached_property
    def pieces(self) -> tuple[tuple[int, int, int, int], ...]:
        """The field byte by byte: (byte, lowest bit in it, bits taken, shift in the value)."""
        pieces: list[tuple[int, int, int, int]] = []
        for shift, bit in enumerate(self.bits):
            byte, low = divmod(bit, 8)
            if pieces and pieces[-1][0] == byte:
                first = pieces[-1]
                pieces[-1] = (byte, first[1], first[2] + 1, first[3])
            else:
                pieces.append((byte, low, 1, shift))
        return tuple(pieces)

    @classmethod
    def from_bits(cls, bits: tuple[int, ...], order: Order, signed: bool = False) -> BitField:
        """The field whose bits, least significant first, are these."""
        return cls(bits[0] if order == "little" else bits[-1], len(bits), order, signed)

    def longer(self, more: int) -> BitField | None:
        """The field with so many more bits above it, unsigned; None where they would lie above byte 0."""
        bits = list(self.bits)
        for _ in range(more):
            bits.append(bit_above(bits[-1], self.order))
        return BitField.from_bits(tuple(bits), self.order) if min(bits) >= 0 else None

    def words(self) -> str:
        """The field as a person reads it, as ``bits 5–14, big-endian``."""
        low, high = min(self.bits), max(self.bits)
        where = f"bit {low}" if self.length == 1 else f"bits {low}–{high}"
        if self.order == "big" and self.last_byte != min(self.bits) // 8:
            where = f"{self.length} bits from {self.start}"
        order = "" if self.length == 1 else f", {self.order}-endian"
        return where + order + (", signed" if self.signed else "")


def extract(field: BitField, payloads: npt.NDArray[np.uint8]) -> npt.NDArray[np.int64]:
    """Raw values of ``field``.

    Args:
        field: The field; it must lie inside the payloads.
        payloads: Shape (n, bytes).

    Returns:
        Shape (n,), int64. An unsigned field of 64 bits comes as its two's complement.

    Raises:
        FieldError: the payloads are too short for the field.
    """
    if field.last_byte >= payloads.shape[1]:
        raise FieldError(f"{field.words()} does not fit in {payloads.shape[1]} bytes")
    value = np.zeros(len(payloads), np.uint64)
    for byte, low, count, shift in field.pieces:
        part = (payloads[:, byte] >> np.uint8(low)) & np.uint8((1 << count) - 1)
        value |= part.astype(np.uint64) << np.uint64(shift)
    if field.signed and field.length < 64:
        sign = np.uint64(1 << (field.length - 1))
        value = (value ^ sign) - sign
    return value.view(np.int64)


def insert(field: BitField, payloads: npt.NDArray[np.uint8], values: npt.NDArray[np.int64]) -> None:
    """Write raw ``values`` (n,) into ``payloads`` (n, bytes), in place; the inverse of `extract`."""
    if field.last_byte >= payloads.shape[1]:
        raise FieldError(f"{field.words()} does not fit in {payloads.shape[1]} bytes")
    raw = values.astype(np.int64).view(np.uint64)
    for byte, low, count, shift in field.pieces:
        mask = np.uint8(((1 << count) - 1) << low)
        part = ((raw >> np.uint64(shift)) & np.uint64((1 << count) - 1)).astype(np.uint8) << np.uint8(low)
        payloads[:, byte] = (payloads[:, byte] & ~mask) | part
