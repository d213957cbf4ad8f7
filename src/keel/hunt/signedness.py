"""Is a number signed? Seen from how it passes through zero, and from what it never is."""

from __future__ import annotations

import numpy as np

from keel.model.fields import BitField, extract
from keel.model.frames import Bytes

LOOKED_AT = 20_000


def looks_signed(field: BitField, payloads: Bytes) -> bool:
    """Whether a field makes a number only when read as two's complement.

    Read without sign, a number that passes zero jumps from one end of its range to the other: its steps are then
    far greater, and the middle of the range stays empty.
    """
    rows = payloads[:: max(len(payloads) // LOOKED_AT, 1)]
    if field.length < 3 or len(rows) < 3:
        return False
    plain = extract(BitField(field.start, field.length, field.order), rows).astype(np.float64)
    half = 2.0 ** (field.length - 1)
    signed = np.where(plain >= half, plain - 2 * half, plain)
    if signed.min() >= 0 or signed.max() < 0:
        return False
    steps_plain, steps_signed = np.abs(np.diff(plain)).sum(), np.abs(np.diff(signed)).sum()
    reach_plain, reach_signed = plain.max() - plain.min(), signed.max() - signed.min()
    # A state that holds any of its few values is not taken for a signed number.
    if len(np.unique(plain)) <= 2 or (field.length <= 4 and len(np.unique(plain)) <= 8):
        return False
    return bool(steps_signed < 0.6 * steps_plain and reach_signed <= 1.01 * reach_plain)
