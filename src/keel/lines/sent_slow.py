"""The slow channel of a SENT sensor: messages said a bit or two in each of 16 or 18 frames.

Source: SAE J2716 (2016), 5.2.4.1 (short serial messages), 5.2.4.2 (enhanced serial messages), 5.4.4 (their CRCs).
"""

from __future__ import annotations

from typing import Any

import numpy as np

from keel.lines.sent_reader import CRC, SEED, TABLE
from keel.media.sent import SLOW
from keel.model.faults import Fault
from keel.model.frames import FrameBatch, batch_of, empty_batch

SHORT, ENHANCED = 16, 18
MARKS = np.array([1, 1, 1, 1, 1, 1, 0, -1, -1, -1, -1, -1, 0, -1, -1, -1, -1, 0], np.int64)
"""Of an enhanced message, bit 3 of the status nibbles, as far as it is always so."""
FIRST_ALONE = np.array([1] + [0] * 15, np.int64)
"""Of a short message."""
CRC6_SEED, CRC6 = 0x15, 0x19
"""x⁶ + x⁴ + x³ + 1, by what is shifted in."""


def slow_messages(table: Any) -> FrameBatch:
    """The messages of the slow channel, by the status nibbles of frames that follow each other.

    Args:
        table: Frames as `read_messages` has them.
    """
    three, two = table[:, 2] >> 3 & 1, table[:, 2] >> 2 & 1
    whole = (table[:, 4] & CRC) == 0
    for read, size in ((_enhanced, ENHANCED), (_short, SHORT)):
        marks = MARKS if size == ENHANCED else FIRST_ALONE
        begins = _alone(_standing(three, whole, marks), size)
        if not len(begins):
            continue
        around = begins[:, None] + np.arange(size)
        idents, said, right = read(three[around], two[around])
        # What nobody sends on purpose stands in the status nibbles by chance: then hardly any checksum fits.
        if right.mean() > 0.5:
            starts = table[begins, 0]
            payloads = said.astype(">u2").view(np.uint8).reshape(-1, 2)[:, 2 - (2 if size == ENHANCED else 1) :]
            return batch_of(
                starts.copy(), idents.astype(np.uint64), payloads, form=SLOW.number, dlc=0,
                faults=np.where(right, 0, int(Fault.CRC)).astype(np.uint32),
                duration=table[begins + size - 1, 1] - starts,
            )  # fmt: skip
    return empty_batch()


def _standing(three: Any, whole: Any, marks: Any) -> Any:
    """Where bits 3 stand as a message has them, in frames that are all right."""
    count = len(three) - len(marks) + 1
    if count < 1:
        return np.zeros(0, np.int64)
    fits = np.ones(count, np.bool_)
    for place, mark in enumerate(marks.tolist()):
        fits &= whole[place : place + count]
        if mark >= 0:
            fits &= three[place : place + count] == mark
    return np.flatnonzero(fits)


def _alone(places: Any, size: int) -> Any:
    """Of some places, one after another, those that are so far apart."""
    kept, at = [], -1
    for place in places.tolist():
        if place >= at:
            kept.append(place)
            at = place + size
    return np.array(kept, np.int64)


def _short(_: Any, two: Any) -> tuple[Any, Any, Any]:
    """Identifier of 4 bits, a byte, a checksum of 4 bits: a bit in each frame."""
    nibbles = [_numbers(two[:, 4 * n : 4 * n + 4]) for n in range(4)]
    remainder = np.full(len(two), SEED)
    for nibble in nibbles[:3]:
        remainder = nibble ^ TABLE[remainder]
    # As those of frames: with a nibble of 0 behind the last one, or without.
    recommended, legacy = TABLE[remainder] == nibbles[3], remainder == nibbles[3]
    right = recommended if recommended.sum() >= legacy.sum() else legacy
    return nibbles[0], nibbles[1] << 4 | nibbles[2], right


def _enhanced(three: Any, two: Any) -> tuple[Any, Any, Any]:
    """Identifier of 8 bits with 12 of data, or of 4 with 16; a checksum of 6 bits leads."""
    twelve = _numbers(two[:, 6:18])
    high, low = _numbers(three[:, 8:12]), _numbers(three[:, 13:17])
    is_wide = three[:, 7] == 1
    # Both rows of bits, frame by frame, behind the checksum.
    bits = np.stack([two[:, 6:18], three[:, 6:18]], axis=2).reshape(len(two), -1)
    idents, said = np.where(is_wide, high, high << 4 | low), np.where(is_wide, low << 12 | twelve, twelve)
    return idents, said, crc6(bits) == _numbers(two[:, :6])


def _numbers(bits: Any) -> Any:
    """Bits, the first one highest, as numbers; shape (n, bits)."""
    return bits @ (1 << np.arange(bits.shape[1])[::-1])


def crc6(bits: Any) -> Any:
    """The checksums of enhanced messages: of their 24 bits, with six of 0 behind them; shape (n, 24)."""
    register = np.full(len(bits), CRC6_SEED)
    for bit in [*bits.T, *np.zeros((6, len(bits)), np.int64)]:
        register = register << 1 | bit
        register ^= np.where(register & 0x40, 0x40 | CRC6, 0)
    return register
