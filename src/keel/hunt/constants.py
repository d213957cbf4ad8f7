"""Bits that never move in good or bad traffic and stand otherwise in each: nothing is more certain."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from keel.hunt.columns import Column
from keel.hunt.surprises import Finding
from keel.model.fields import BitField
from keel.model.frames import Mask

CONSTANT = "constant"
A_SWITCH, A_BIT = 27.0, 3.0
"""What is certain of one bit, and what each more adds, in nats."""
LONGEST_BYTES = 8


def constant_surprises(good: Column, bad: Column) -> list[Finding]:
    """What is always so in the good traffic and always otherwise in the bad, as sure as there are frames."""
    steady, held = zip(*(_steady(column) for column in (good, bad)), strict=True)
    both = steady[0] & steady[1]
    differs = np.unpackbits(held[0] ^ held[1], bitorder="little").astype(np.bool_) & both
    found = []
    for field in runs_of(differs, both):
        was, now = (value_words(field, one.tobytes()) for one in held)
        why = f"always {now} in {len(bad.times)} frames; always {was} in {len(good.times)} of the good one"
        # A switch may stand otherwise on another day; a number of several bits that never moved seldom does.
        most = A_SWITCH + A_BIT * min(field.length, 8)
        nats = min(4.0 + min(len(good.times), len(bad.times)), most)
        found.append(Finding(good.key, CONSTANT, field, nats, (int(bad.times[0]),), f"{field_words(field)} is {why}"))
    return found


def _steady(column: Column) -> tuple[Mask, np.ndarray[tuple[int], np.dtype[np.uint8]]]:
    """Which bits never move, and the first payload."""
    rows = column.payloads
    moves = np.bitwise_or.reduce(rows, axis=0) ^ np.bitwise_and.reduce(rows, axis=0)
    return np.unpackbits(moves, bitorder="little") == 0, rows[0]


def runs_of(differs: Mask, steady: Mask) -> Iterator[BitField]:
    """The bits that differ as fields: bytes where more than one bit of a steady byte does, else the bits themselves."""
    several = differs.reshape(-1, 8).sum(axis=1) > 1
    whole: Mask = np.logical_and(steady.reshape(-1, 8).all(axis=1), several)
    byte = 0
    while byte < len(whole):
        end = byte + 1
        if whole[byte]:
            while end < len(whole) and whole[end] and end - byte < LONGEST_BYTES:
                end += 1
            yield BitField(8 * byte, 8 * (end - byte))
        else:
            bits = np.flatnonzero(differs[8 * byte : 8 * byte + 8]) + 8 * byte
            for run in np.split(bits, np.flatnonzero(np.diff(bits) > 1) + 1) if len(bits) else ():
                yield BitField(int(run[0]), len(run))
        byte = end


def field_words(field: BitField) -> str:
    """Which bits or bytes."""
    low, high = field.start, field.start + field.length - 1
    if low % 8 == 0 and field.length % 8 == 0:
        return f"byte {low // 8}" if field.length == 8 else f"bytes {low // 8}–{high // 8}"
    return f"bit {low}" if low == high else f"bits {low}–{high}"


def value_words(field: BitField, payload: bytes) -> str:
    """What stands there: bytes in hex, bits as a number."""
    if field.start % 8 == 0 and field.length % 8 == 0:
        return payload[field.start // 8 : (field.start + field.length) // 8].hex(" ").upper()
    return str(int.from_bytes(payload, "little") >> field.start & (1 << field.length) - 1)
