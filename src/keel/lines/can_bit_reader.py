"""The bits of a CAN frame as a controller takes them: one after another, those that were put in passed over.

Bits are sampled past their middle; every falling edge begins a bit anew, as the standard has it. What is done with
every bit is compiled into its caller (``inline``): to hand arrays from function to function takes longer than a bit.
All of it at once would take minutes to compile.

Source: ISO 11898-1:2015, 10.5 (stuffing), 10.4.2.6 (CRC), 11.3 (synchronisation).
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

SAMPLE = 0.65
"""Where in a bit it is taken."""
FIELDS = (
    "sof", "id", "srr", "ide", "id", "rtr", "r1", "r0", "fdf", "res", "brs", "esi", "dlc", "data", "stuff_count", "crc",
    "crc_delimiter", "ack", "ack_delimiter", "eof", "stuff",
)  # fmt: skip
"""By the number that the decoder gives; the last one is no field but bits that were put in."""
(
    N_SOF, N_ID, N_SRR, N_IDE, N_ID2, N_RTR, N_R1, N_R0, N_FDF, N_RES, N_BRS, N_ESI, N_DLC, N_DATA, N_COUNT, N_CRC,
    N_CRC_DEL, N_ACK, N_ACK_DEL, N_EOF, N_STUFF,
) = range(len(FIELDS))  # fmt: skip
MOST_BITS = 800
"""No frame has more bits, stuff bits included."""
OVER, TWICE = -1, -2
"""In place of a level: the recording has ended; a bit that had to be put in was not, six are equal."""
EDGE, COUNT_READ, LAST, RUN, STUFFED = range(5)
"""Where a frame stands, in ``at``: the last edge that was read, how many bits were, the last level, how often it stood
there, how many bits were put in."""
CLASSIC, ISO17, ISO21, PLAIN17, PLAIN21 = range(5)
"""Checksums in the making, in ``sums``; the plain ones are those of CAN FD from before ISO."""
POLY15, POLY17, POLY21 = 0x4599, 0x1685B, 0x102899


@njit(cache=True, nogil=True, inline="always")
def next_bit(edges: Any, first: Any, end: Any, clock: Any, j: Any) -> Any:
    """The level of the next bit, and the edge that is last before its sample; -1 at the end of what was recorded.

    ``clock`` holds when the bit begins and how long it takes; a falling edge near its begin moves it.
    """
    begin, length = clock[0], clock[1]
    sample = begin + SAMPLE * length
    count = len(edges)
    while j + 1 < count and edges[j + 1] <= sample:
        j += 1
        at = edges[j]
        if not (first ^ (j + 1)) & 1 and abs(at - begin) < 0.5 * length:
            begin = np.float64(at)
            sample = begin + SAMPLE * length
    if sample > end:
        return -1, j
    clock[0] = begin + length
    clock[2] = begin
    return (first ^ (j + 1)) & 1, j


@njit(cache=True, nogil=True, inline="always")
def shift(register: Any, level: Any, top: Any, polynomial: Any) -> Any:
    """A checksum's register after one more bit; ``top`` is the number of its highest bit."""
    follows = (register >> top & 1) ^ level
    register = register << 1 & ((1 << (top + 1)) - 1)
    return register ^ polynomial if follows else register


@njit(cache=True, nogil=True, inline="always")
def note(bits: Any, count: Any, clock: Any, level: Any, field: Any) -> Any:
    """Note a bit, where there is room for it; how many there are then."""
    if count < len(bits):
        bits[count, 0], bits[count, 1], bits[count, 2] = np.int64(np.rint(clock[2])), level, field
    return count + 1


@njit(cache=True, nogil=True)
def take(edges: Any, first: Any, end: Any, clock: Any, at: Any, bits: Any, field: Any) -> Any:
    """The next bit as it is on the wire; `OVER` at the end of what was recorded."""
    level, at[EDGE] = next_bit(edges, first, end, clock, at[EDGE])
    if level >= 0:
        at[COUNT_READ] = note(bits, at[COUNT_READ], clock, level, field)
    return level


@njit(cache=True, nogil=True)
def pass_stuffed(edges: Any, first: Any, end: Any, clock: Any, at: Any, bits: Any) -> Any:
    """Pass over the bit that was put in behind five equal ones, if one is due; below 0 if that cannot be."""
    if at[RUN] != 5:
        return 0
    level = take(edges, first, end, clock, at, bits, N_STUFF)
    if level < 0:
        return level
    if level == at[LAST]:
        return TWICE
    at[LAST], at[RUN] = level, 1
    return 0
