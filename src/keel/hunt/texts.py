"""Text in payloads: bytes that are printable in every frame."""

from __future__ import annotations

from keel.model.fields import BitField
from keel.model.frames import Bytes, Mask

FEWEST = 3
LONGEST = 8
LOOKED_AT = 20_000
LETTERS = 0.6
"""Share of a text that is letters, digits, blanks or nothing."""


def find_texts(payloads: Bytes, spoken_for: Mask) -> list[BitField]:
    """Runs of whole bytes that hold text, as fields of up to eight bytes each.

    A number's byte is printable now and then; all bytes of a run, in all frames, and changing as a text does
    (its upper bits never set, mostly letters), are a text. The end may be filled with zeros.
    """
    rows = payloads[:: max(len(payloads) // LOOKED_AT, 1)]
    if rows.shape[1] < FEWEST or len(rows) < 2:
        return []
    free = ~spoken_for.reshape(-1, 8).any(axis=1)
    # 0x20 to 0x7E, and 0 as filling.
    shown = ((rows >= 0x20) & (rows < 0x7F)) | (rows == 0)
    alnum = ((rows >= 0x30) & (rows <= 0x39)) | ((rows & 0xDF) >= 0x41) & ((rows & 0xDF) <= 0x5A) | (rows == 0x20)
    good = free & shown.all(axis=0) & (alnum.mean(axis=0) >= LETTERS)
    moves = (rows != rows[0]).any(axis=0)
    found = []
    at = 0
    while at < len(good):
        end = at
        while end < len(good) and good[end]:
            end += 1
        if end - at >= FEWEST and (moves[at:end].any() or end - at >= 4):
            for first in range(at, end, LONGEST):
                found.append(BitField(first * 8, min(LONGEST, end - first) * 8))
        at = max(end, at + 1)
    return found
