"""What may carry something: the fields of every identifier, as series of numbers in time."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from keel.hunt.columns import Column
from keel.hunt.structure import Piece, Structure
from keel.model.fields import BitField, bit_above, extract
from keel.model.frames import Times
from keel.model.units import NS_PER_S

Floats = npt.NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Carrier:
    """A field over time.

    Attributes:
        times: When it was sent, in ns since 1970, shape (n,).
        raw: Its raw values, shape (n,).
    """

    key: int
    piece: Piece
    times: Times
    raw: npt.NDArray[np.int64]

    @property
    def field(self) -> BitField:
        """Its bits."""
        return self.piece.field

    @property
    def page(self) -> int | None:
        """The selector's value, if it has one."""
        return self.piece.page

    @cached_property
    def values(self) -> Floats:
        """The raw values as numbers to calculate with."""
        return self.raw.astype(np.float64)

    @cached_property
    def changes(self) -> npt.NDArray[np.int64]:
        """Which frames differ from the one before."""
        return np.flatnonzero(np.diff(self.raw)) + 1

    @cached_property
    def cycle_s(self) -> float:
        """The median time from one frame to the next, in seconds."""
        return float(np.median(np.diff(self.times))) / NS_PER_S

    def at(self, moments: Times) -> Floats:
        """The value at moments: that of the last frame up to then, of the first one before there is one."""
        return self.values[np.maximum(np.searchsorted(self.times, moments, side="right") - 1, 0)]


MOST_ABOVE = 16


def constant_above(structure: Structure, column: Column, piece: Piece) -> tuple[int, int]:
    """How many bits right above a field never move and belong to nothing, and what they hold."""
    taken = {b for p in structure.pieces if p.kind != "constant" and p.page in (None, piece.page) for b in p.field.bits}
    rows = structure.rows_of(piece.page, column.payloads)
    first = column.payloads[int(rows.argmax())]
    bit, count, held = piece.field.bits[-1], 0, 0
    while count < MOST_ABOVE:
        bit = bit_above(bit, piece.field.order)
        if not 0 <= bit < column.payloads.shape[1] * 8 or bit in taken:
            break
        held |= int(first[bit // 8] >> bit % 8 & 1) << count
        count += 1
    return count, held


def carriers_of(columns: dict[int, Column], structures: dict[int, Structure]) -> list[Carrier]:
    """The values and flags that move, of all identifiers."""
    found = []
    for key, structure in structures.items():
        column = columns[key]
        for piece in structure.numbers:
            if not piece.moving:
                continue
            rows = structure.rows_of(piece.page, column.payloads)
            payloads, times = (
                (column.payloads, column.times) if rows.all() else (column.payloads[rows], column.times[rows])
            )
            if len(times) >= 2:
                found.append(Carrier(key, piece, times, extract(piece.field, payloads)))
    return found


A_NUMBER = 5
"""Fields of so many bits are taken for numbers, whose higher bits may not have been used yet."""


def to_byte_end(structure: Structure, column: Column, piece: Piece, field: BitField) -> BitField:
    """A number with the zeros above it, up to the end of its highest byte: so senders lay them out."""
    if field.length < A_NUMBER or field.bits != piece.field.bits or piece.field.signed:
        return field
    count, held = constant_above(structure, column, piece)
    bits = list(field.bits)
    while bits[-1] % 8 != 7 and count and not held & 1:
        bits.append(bits[-1] + 1)
        count, held = count - 1, held >> 1
    return BitField.from_bits(tuple(bits), field.order, field.signed)


def exclusive_pairs(columns: dict[int, Column], structures: dict[int, Structure]) -> list[Carrier]:
    """Neighbouring flags that are never set both: together they may be one state, as off, up and down are."""
    found = []
    for key, structure in structures.items():
        flags = {p.field.start: p for p in structure.pieces if p.kind == "flag"}
        for start, piece in flags.items():
            other = flags.get(start + 1)
            if other is None or other.page != piece.page or start % 8 == 7:
                continue
            column = columns[key]
            rows = structure.rows_of(piece.page, column.payloads)
            both = BitField(start, 2)
            raw = extract(both, column.payloads[rows])
            if not (raw == 3).any():
                pair = Piece(both, "value", page=piece.page, moving=both.bits)
                found.append(Carrier(key, pair, column.times[rows], raw))
    return found
