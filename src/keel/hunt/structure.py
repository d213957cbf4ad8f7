"""What payload bits do by themselves, whatever anybody does to the machine."""

from __future__ import annotations

import numpy as np

from keel.model.frames import Bytes, Mask

LOOKED_AT = 20_000
NEARLY_ALL = 0.97


def counter_bits(payloads: Bytes) -> Mask:
    """Bits of free-running counters: the lowest flips with every frame, each next one when the one below falls.

    Args:
        payloads: Shape (frames, bytes); the first `LOOKED_AT` are looked at.

    Returns:
        Shape (8 × bytes,).
    """
    count = payloads.shape[1] * 8
    found = np.zeros(count, np.bool_)
    bits = np.unpackbits(payloads[:LOOKED_AT], axis=1, bitorder="little").view(np.int8)
    if len(bits) < 8:
        return found
    steps = np.diff(bits, axis=0)
    moves = steps != 0
    rates = moves.mean(axis=0)
    for low in range(count):
        if rates[low] < NEARLY_ALL or found[low]:
            continue
        found[low] = True
        bit = low + 1
        while bit < count and moves[:, bit].any():
            falls = steps[:, bit - 1] == -1
            agree = np.count_nonzero(falls & moves[:, bit])
            if agree < NEARLY_ALL * max(np.count_nonzero(falls), np.count_nonzero(moves[:, bit])):
                break
            found[bit] = True
            bit += 1
    return found
