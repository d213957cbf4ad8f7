"""From single bits to fields: which neighbours make one number, in which byte order and sign."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from keel.model.fields import BitField, Order, extract, next_bit_up
from keel.model.frames import Bytes, Mask

NEW_FIELD_FACTOR = 1.6
NEW_FIELD_FLIPS = 12
"""Where a bit flips so many times as often as its less significant neighbour, and so much oftener, another field may
begin. With fewer flips, as in the few states of a switch, bits of one field may flip in any proportion."""
APART = 1.25
"""In one number the high part steps when the low part wraps, so that both together vary no more than the high part
alone. Parts that together vary so many times as much are two fields."""
A_NUMBER = 5
"""Fields of so many bits are taken for numbers, whose higher bits may not have been used yet."""
LOOKED_AT = 20_000

Counts = npt.NDArray[np.int64]


def join_bits(follows: Mask, may_join: Mask, flips: Counts, payloads: Bytes) -> list[BitField]:
    """Fields made of the bits that follow.

    Args:
        follows: Which bits follow, shape (bits,).
        may_join: Bits that may be low bits of a field that follows, shape (bits,).
        flips: How often each bit flips, shape (bits,).
        payloads: The frames, shape (n, bytes).

    Returns:
        Fields that do not overlap. Neighbours are read in both byte orders; the longest number wins, and of two
        as long the smoother one: read in the wrong order, a number jumps. Numbers reach up to their byte's end
        over bits that never flip.
    """
    sample = payloads[:LOOKED_AT]
    orders: tuple[Order, Order] = ("little", "big")
    runs = [
        (part, order)
        for order in orders
        for run in _runs(follows | may_join, order)
        for part in _split(run, order, flips, sample)
        if follows[part].any()
    ]
    runs.sort(key=lambda run: (-len(run[0]), _roughness(_field(*run), sample)))
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
            fields.append(_field(bits, "little" if one_byte else order))
    return fields


def _field(bits: list[int], order: Order) -> BitField:
    return BitField.from_bits(tuple(bits), order)


def _runs(usable: Mask, order: Order) -> list[list[int]]:
    """Maximal runs of usable bits, from less to more significant."""
    count = len(usable)
    if order == "little":
        path = list(range(count))
    else:
        # From the last byte's bit 0 upward: each next bit is one place more significant.
        path = [bit for byte in range(count // 8 - 1, -1, -1) for bit in range(byte * 8, byte * 8 + 8)]
    runs: list[list[int]] = []
    run: list[int] = []
    for bit in path:
        if not usable[bit]:
            run = []
            continue
        next_up = run and (bit == run[-1] + 1 if order == "little" else bit == next_bit_up(run[-1]))
        if not next_up or len(run) == 64:
            run = []
            runs.append(run)
        run.append(bit)
    return runs


def _split(run: list[int], order: Order, flips: Counts, payloads: Bytes) -> list[list[int]]:
    """The run cut where another number begins."""
    parts = [run[:1]]
    for at, bit in enumerate(run[1:], 1):
        low = parts[-1]
        jumps = flips[bit] > NEW_FIELD_FACTOR * flips[low[-1]] + NEW_FIELD_FLIPS
        if jumps and _are_apart(low, run[at:], order, payloads):
            parts.append([])
        parts[-1].append(bit)
    return parts


def _are_apart(low: list[int], high: list[int], order: Order, payloads: Bytes) -> bool:
    high = high[: 64 - len(low)]
    alone = _variation(_field(high, order), payloads) * 2.0 ** len(low)
    return alone > 0 and _variation(_field(low + high, order), payloads) > APART * alone


def read_as_number(field: BitField, payloads: Bytes) -> BitField:
    """The field as signed if that makes it move in smaller steps."""
    if field.length < 2:
        return field
    signed = BitField(field.start, field.length, field.order, True)
    return signed if _variation(signed, payloads) < 0.5 * _variation(field, payloads) else field


def _variation(field: BitField, payloads: Bytes) -> float:
    """By how much the value moves in all, up and down."""
    return float(np.abs(np.diff(extract(field, payloads).astype(np.float64))).sum())


def _roughness(field: BitField, payloads: Bytes) -> float:
    """The same in units of the value's range: how often it goes there and back."""
    values = extract(field, payloads).astype(np.float64)
    reach = float(values.max() - values.min()) if len(values) else 0.0
    return _variation(field, payloads) / reach if reach else 0.0
