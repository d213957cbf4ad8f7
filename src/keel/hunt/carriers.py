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
    def header(self) -> str:
        """The header's field that it is; empty for one of the payload."""
        return self.piece.header

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
        return float(np.median(np.diff(self.times))) / NS_PER_S if len(self.times) > 1 else 0.0

    def at(self, moments: Times) -> Floats:
        """The value at moments: that of the last frame up to then, of the first one before there is one."""
        return self.values[np.maximum(np.searchsorted(self.times, moments, side="right") - 1, 0)]


MOST_ABOVE = 16


def constant_above(structure: Structure, column: Column, piece: Piece) -> tuple[int, int]:
    """How many bits right above a field never move and belong to nothing, and what they hold."""
    if piece.header:
        return 0, 0
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


SMALL, MOST_CHANGES = 4, 300


def stepping_together(columns: dict[int, Column], structures: dict[int, Structure]) -> list[Carrier]:
    """Neighbours within a byte that change at the same moments and take three values or more: one number, it may be,
    of which too few values were seen to tell."""
    found = []
    for key, structure in structures.items():
        small = [p for p in structure.numbers if p.moving and p.field.length <= SMALL]
        by_start = {(p.field.start, p.page): p for p in small}
        for piece in small:
            other = by_start.get((piece.field.start + piece.field.length, piece.page))
            if other is None or other.field.start % 8 == 0:
                continue
            column = columns[key]
            rows = structure.rows_of(piece.page, column.payloads)
            both = BitField(piece.field.start, piece.field.length + other.field.length)
            raw = extract(both, column.payloads[rows])
            changes = np.flatnonzero(np.diff(raw))
            if not 2 <= len(changes) <= MOST_CHANGES or len(np.unique(raw)) < 3:
                continue
            steps = raw[changes + 1] ^ raw[changes]
            low = steps & (1 << piece.field.length) - 1 != 0
            high = steps >> piece.field.length != 0
            if 2 * np.count_nonzero(low & high) >= min(np.count_nonzero(low), np.count_nonzero(high)):
                joined = Piece(both, "value", page=piece.page, moving=piece.moving + other.moving)
                found.append(Carrier(key, joined, column.times[rows], raw))
    return found


MOST_TURNS_OF_A_BIT = 200


def single_bits(carrier: Carrier) -> list[Carrier]:
    """The bits of a number that turn seldom, as flags of their own: what acts may be one of them."""
    if carrier.header:
        # What is one number there is said.
        return []
    moved = np.bitwise_or.reduce(carrier.raw[carrier.changes] ^ carrier.raw[carrier.changes - 1], initial=0)
    found = []
    for place, bit in enumerate(carrier.field.bits):
        if not int(moved) >> place & 1 or place == 63:
            continue
        raw = carrier.raw >> place & 1
        if np.count_nonzero(raw[carrier.changes] != raw[carrier.changes - 1]) <= MOST_TURNS_OF_A_BIT:
            piece = Piece(BitField(bit, 1), "flag", page=carrier.page, moving=(bit,))
            found.append(Carrier(carrier.key, piece, carrier.times, raw))
    return found


LONGEST_FIELD = 64


def whole_payloads(columns: dict[int, Column]) -> list[Carrier]:
    """Identifiers as they are sent, whatever they say: the field is their payload, as far as a field reaches."""
    found = []
    for key, column in columns.items():
        bits = min(column.payloads.shape[1] * 8, LONGEST_FIELD)
        if bits and len(column.times):
            raw = np.zeros(len(column.times), np.int64)
            found.append(Carrier(key, Piece(BitField(0, bits), "value"), column.times, raw))
    return found
