"""From single bits to fields: which neighbours make one number, in which byte order and sign."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from keel.model.fields import BitField, Order, extract, next_bit_up
from keel.model.frames import Bytes, Mask

NEW_FIELD_FACTOR = 1.6
NEW_FIELD_FLIPS = 12
"""A bit that flips so many times as often as its less significant neighbour, and so much oftener, begins another
field. With fewer flips, as in the few states of a switch, bits of one field may flip in any proportion."""
A_NUMBER = 5
"""Fields of so many bits are taken for numbers, whose higher bits may not have been used yet."""

Counts = npt.NDArray[np.int64]


def join_bits(follows: Mask, may_join: Mask, flips: Counts) -> list[BitField]:
    """Fields made of the bits that follow.

    Args:
        follows: Which bits follow, shape (bits,).
        may_join: Bits that may be low bits of a field that follows, shape (bits,).
        flips: How often each bit flips, shape (bits,).

    Returns:
        Fields that do not overlap, the longest chosen first: bits read in the wrong byte order fall apart at
        the byte boundary, where their flipping jumps. Numbers reach up to their byte's end over bits that
        never flip.
    """
    runs = _runs(follows, may_join, flips, "little") + _runs(follows, may_join, flips, "big")
    runs.sort(key=lambda run: -len(run[0]))
    taken: set[int] = set()
    fields = []
    for bits, order in runs:
        if taken.isdisjoint(bits):
            if len(bits) >= A_NUMBER:
                while bits[-1] % 8 != 7 and not flips[bits[-1] + 1] and len(bits) < 64:
                    bits.append(bits[-1] + 1)
            taken.update(bits)
            # Within one byte both orders say the same.
            one_byte = len({bit // 8 for bit in bits}) == 1
            fields.append(BitField.from_bits(tuple(bits), "little" if one_byte else order))
    return fields


def _runs(follows: Mask, may_join: Mask, flips: Counts, order: Order) -> list[tuple[list[int], Order]]:
    """Maximal runs from less to more significant bits, cut where another number begins."""
    count = len(follows)
    if order == "little":
        path = list(range(count))
    else:
        # From the last byte's bit 0 upward: each next bit is one place more significant.
        path = [bit for byte in range(count // 8 - 1, -1, -1) for bit in range(byte * 8, byte * 8 + 8)]
    runs: list[tuple[list[int], Order]] = []
    run: list[int] = []
    for bit in path:
        next_up = run and (bit == run[-1] + 1 if order == "little" else bit == next_bit_up(run[-1]))
        if not (follows[bit] or may_join[bit]):
            run = []
            continue
        if not next_up or _begins_a_field(flips, run[-1], bit) or len(run) == 64:
            run = []
            runs.append((run, order))
        run.append(bit)
    return [(bits, way) for bits, way in runs if follows[bits].any()]


def _begins_a_field(flips: Counts, lower: int, bit: int) -> bool:
    return bool(flips[bit] > NEW_FIELD_FACTOR * flips[lower] + NEW_FIELD_FLIPS)


def read_as_number(field: BitField, payloads: Bytes) -> BitField:
    """The field as signed if that makes it move in smaller steps."""
    if field.length < 2:
        return field
    signed = BitField(field.start, field.length, field.order, True)
    return signed if _roughness(signed, payloads) < 0.5 * _roughness(field, payloads) else field


def _roughness(field: BitField, payloads: Bytes) -> float:
    values = extract(field, payloads).astype(np.float64)
    return float(np.abs(np.diff(values)).sum())
