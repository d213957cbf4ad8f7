"""Finding the packets in enhanced packet blocks, compiled. Source: IETF draft-ietf-opsawg-pcapng, section 4.3."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from keel.formats.pcap import word_at

ENHANCED, COMMENT = 6, 1
MOST_BLOCK_BYTES = 1 << 26
TOO_LONG, OTHER, UNKNOWN, NO_STAMP, CROWDED_OUT = 1, 2, 3, 4, 5
"""Why a packet is passed over: longer than its block, of a link type that is not known, of an interface that was not
described, of a time that is not believable, of a bus too many."""


@njit(cache=True, nogil=True)
def _half(buffer: Any, at: Any, little: Any) -> Any:
    a, b = np.int64(buffer[at]), np.int64(buffer[at + 1])
    return a | b << 8 if little else b | a << 8


@njit(cache=True, nogil=True)
def scan(buffer: Any, little: bool, links: Any, scale: Any, latest: Any, out: Any, notes: Any, number: Any,
          bad: Any) -> Any:  # fmt: skip
    """Find packets in enhanced packet blocks until another kind of block, the end, or a full notebook.

    Args:
        links: For each interface its bus, -1 for another link type, -2 where there are too many buses.
        scale: For each interface multiplier, divisor, bits of a binary fraction (-1 for a decimal one), offset in ns.
        latest: For each interface the greatest time stamp that can be said in nanoseconds.
        out: Time, interface, whether sent, place, bytes captured, bytes there were, number in the file; filled.
        notes: Packet, place and length of comments; filled.

    Returns:
        Packets, comments, where it stopped.
    """
    time, interfaces, sent, starts, kept, originals, numbers = out
    n = noted = at = 0
    end = len(buffer)
    while at + 12 <= end and noted < len(notes) and n < len(time):
        if word_at(buffer, at, little) != ENHANCED:
            break
        size = word_at(buffer, at + 4, little)
        if size < 32 or size & 3 or size > MOST_BLOCK_BYTES or at + size > end:
            break
        number[0] += 1
        interface = word_at(buffer, at + 8, little)
        captured = word_at(buffer, at + 20, little)
        stamp = np.uint64(word_at(buffer, at + 12, little)) << np.uint64(32) | np.uint64(
            word_at(buffer, at + 16, little)
        )
        wrong = 0
        if captured > size - 32:
            wrong = TOO_LONG
        elif interface >= len(links):
            wrong = UNKNOWN
        elif links[interface] < 0:
            wrong = CROWDED_OUT if links[interface] == -2 else OTHER
        elif stamp > latest[interface]:
            wrong = NO_STAMP
        if wrong:
            if bad[wrong, 0] == 0:
                bad[wrong, 1] = number[0]
            bad[wrong, 0] += 1
            at += size
            continue
        multiply, divide, binary, shift = scale[interface]
        if binary >= 0:
            whole = np.int64(stamp >> np.uint64(binary)) if binary < 64 else np.int64(0)
            rest = stamp & ((np.uint64(1) << np.uint64(binary)) - np.uint64(1))
            # Thirty bits of the fraction are finer than a nanosecond.
            if binary > 30:
                rest >>= np.uint64(binary - 30)
            part = rest * np.uint64(1_000_000_000) >> np.uint64(min(binary, 30))
            time[n] = whole * 1_000_000_000 + np.int64(part) + shift
        else:
            time[n] = np.int64(stamp // np.uint64(divide)) * multiply + shift
        interfaces[n], sent[n], numbers[n] = interface, False, number[0]
        starts[n], kept[n], originals[n] = at + 28, captured, word_at(buffer, at + 24, little)
        option = at + 28 + ((captured + 3) & ~3)
        while option + 4 <= at + size - 4:
            code, length = _half(buffer, option, little), _half(buffer, option + 2, little)
            if code == 0 or option + 4 + length > at + size - 4:
                break
            if code == 2 and length == 4:
                sent[n] = word_at(buffer, option + 4, little) & 3 == 2
            elif code == COMMENT and noted < len(notes):
                notes[noted, 0], notes[noted, 1], notes[noted, 2] = n, option + 4, length
                noted += 1
            option += 4 + ((length + 3) & ~3)
        n += 1
        at += size
    return n, noted, at
