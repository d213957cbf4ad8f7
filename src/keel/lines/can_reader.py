"""One CAN frame read bit by bit from the edges of a line that rests high.

Bits are sampled past their middle; every falling edge begins a bit anew, as the standard has it. In CAN FD the bit rate
changes at the sample point of BRS, and back at that of the CRC delimiter: where exactly that is, is not known from
outside, so the falling edge that follows sets it.

Source: ISO 11898-1:2015, 10.4 (formats), 10.5 (stuffing), 10.4.2.6 (CRC; its seeds and the stuff count of CAN FD), 11.3
(synchronisation).
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from keel.lines.can_bit_reader import (
    CLASSIC,
    COUNT_READ,
    EDGE,
    ISO17,
    ISO21,
    LAST,
    N_ACK,
    N_ACK_DEL,
    N_BRS,
    N_COUNT,
    N_CRC,
    N_CRC_DEL,
    N_DATA,
    N_DLC,
    N_EOF,
    N_ESI,
    N_FDF,
    N_ID,
    N_ID2,
    N_IDE,
    N_R0,
    N_RES,
    N_RTR,
    N_SOF,
    N_SRR,
    N_STUFF,
    OVER,
    PLAIN17,
    PLAIN21,
    POLY15,
    POLY17,
    POLY21,
    RUN,
    STUFFED,
    TWICE,
    next_bit,
    note,
    pass_stuffed,
    shift,
    take,
)
from keel.model.frames import FD_LENGTHS

SWITCH = 0.8
"""Where in BRS and in the CRC delimiter the rate is taken to change, where no edge tells."""
CRC, STUFF, FORM, ACK, OVERLOAD, ERROR_FLAG = 1, 2, 4, 8, 16, 32
END, EXTENDED, IDENT, FLAGS, DLC, FAULTS, IS_ISO, LENGTH, TURN, KNOWN, FLAG_BEGIN, FLAG_END = range(12)
"""What `read_frame` gives: columns of ``out``. ``KNOWN`` is 1 where the identifier was read; ``FLAG_BEGIN`` and
``FLAG_END`` are when an error flag behind it began and ended, 0 without one."""
OUT = 12
LEAST_FLAG = 5.5
"""An error flag is six dominant bits or more."""
_LENGTHS = np.array(FD_LENGTHS, np.int64)
_GRAY = np.array([0, 1, 3, 2, 6, 7, 5, 4], np.int64)
ISO, NOT_ISO, EITHER = 1, 0, -1
ONLY = 2
"""Added to `ISO` or `NOT_ISO` where a person said which it is: then nothing else is tried."""
SHORT = 16
"""CAN FD frames of so many bytes at most have the checksum of 17 bits."""


@njit(cache=True, nogil=True)
def _speed_up(edges: Any, clock: Any, edge: Any, slow: Any, fast: Any, turn: Any) -> Any:
    """Take up the data bit rate behind BRS; how long BRS took, by the falling edge to a dominant ESI if there is."""
    begin = clock[2]
    wanted = begin + (turn if turn > 0 else SWITCH * slow + (1 - SWITCH) * fast)
    clock[0], clock[1] = wanted, fast
    following = edge + 1
    if following < len(edges):
        off = edges[following] - wanted
        if abs(off) < 0.5 * fast or (turn == 0 and edges[following] - begin < 1.1 * slow):
            clock[0] = np.float64(edges[following])
    return np.int64(np.rint(clock[0] - begin))


@njit(cache=True, nogil=True)
def _slow_down(edges: Any, clock: Any, at: Any, slow: Any, fast: Any) -> None:
    """Take up the nominal bit rate behind the CRC delimiter."""
    begin = clock[2]
    clock[1] = slow
    following = at[EDGE] + 1
    if following < len(edges) and edges[following] - begin < 1.6 * slow:
        clock[0] = np.float64(edges[following])
    else:
        clock[0] = begin + SWITCH * fast + (1 - SWITCH) * slow


@njit(cache=True, nogil=True)
def _following(field: Any, value: Any, out: Any) -> Any:
    """Take what a field of the header says into ``out``; the field that follows, and how many bits it has.

    Behind the DLC come the data, a byte at a time; with 0 bits there are none.
    """
    if field == N_SOF:
        return N_ID, 11
    if field == N_ID:
        out[IDENT] = value
        return N_SRR, 1
    if field in (N_SRR, N_RTR):
        # In the base format the first is RTR, or RRS of CAN FD.
        out[FLAGS] = value << 3
        return (N_IDE, 1) if field == N_SRR else (N_FDF, 1)
    if field == N_IDE:
        out[KNOWN] = 1 - value
        return (N_ID2, 18) if value else (N_FDF, 1)
    if field == N_ID2:
        out[KNOWN], out[EXTENDED], out[IDENT] = 1, 1, out[IDENT] << 18 | value
        return N_RTR, 1
    if field == N_FDF:
        if value:
            out[FLAGS] = 1
            return N_RES, 1
        return (N_R0, 1) if out[EXTENDED] else (N_DLC, 4)
    if field == N_RES:
        return N_BRS, 1
    if field == N_BRS:
        out[FLAGS] |= value << 1
        return N_ESI, 1
    if field == N_DLC:
        out[DLC] = value
        return (N_DATA, 8) if _size(out) else (N_DATA, 0)
    # ESI, or r0 of a classic frame, which says nothing.
    out[FLAGS] |= value << 2 if field == N_ESI else 0
    return N_DLC, 4


@njit(cache=True, nogil=True)
def _size(out: Any) -> Any:
    """How many bytes of data a frame has, by its DLC."""
    if out[FLAGS] & 1:
        return _LENGTHS[out[DLC]]
    return 0 if out[FLAGS] & 8 else min(out[DLC], 8)


OF_ANY, OF_CLASSIC, OF_SHORT, OF_LONG = range(4)
"""Which frames' checksums may be needed: any, as long as their format is not known; classic, CAN FD of few bytes, of
many."""


@njit(cache=True, nogil=True)
def _read_body(
    edges: Any, first: Any, end: Any, clock: Any, at: Any, sums: Any, slow: Any, fast: Any, turn: Any, out: Any,
    data: Any, used: Any, bits: Any,
) -> Any:  # fmt: skip
    """All that is stuffed and says something, from start of frame to the end of the data; `OVER` or `TWICE` where it is
    not whole. What changes with every bit is in names of its own, not in arrays: this is where all the time goes."""
    edge, count, last, run, stuffed = at[EDGE], at[COUNT_READ], at[LAST], at[RUN], at[STUFFED]
    classic, iso17, iso21, plain17, plain21 = sums[CLASSIC], sums[ISO17], sums[ISO21], sums[PLAIN17], sums[PLAIN21]
    ended = 0
    field, left, value, got, size, needed = N_SOF, 1, 0, 0, 0, OF_ANY
    while left > 0:
        is_stuff = run == 5
        level, edge = next_bit(edges, first, end, clock, edge)
        if level < 0:
            ended = OVER
            break
        count = note(bits, count, clock, level, N_STUFF if is_stuff else field)
        if is_stuff and level == last:
            ended = TWICE
            break
        run = run + 1 if level == last else 1
        last = level
        # The checksums of CAN FD cover what was put in, that of classic frames does not. Of all of them those are kept
        # up that may still be needed.
        if needed != OF_CLASSIC and needed != OF_LONG:
            iso17, plain17 = shift(iso17, level, 16, POLY17), shift(plain17, level, 16, POLY17)
        if needed != OF_CLASSIC and needed != OF_SHORT:
            iso21, plain21 = shift(iso21, level, 20, POLY21), shift(plain21, level, 20, POLY21)
        if is_stuff:
            stuffed += 1
            continue
        if needed <= OF_CLASSIC:
            classic = shift(classic, level, 14, POLY15)
        value = value << 1 | level
        left -= 1
        if left == 0 and field == N_DATA:
            data[used + got] = value
            got += 1
            left = 8 if got < size else 0
            value = 0
        elif left == 0:
            if field == N_BRS and value and fast > 0:
                out[TURN] = _speed_up(edges, clock, edge, slow, fast, turn)
            if field == N_FDF and not value:
                needed = OF_CLASSIC
            field, left = _following(field, value, out)
            value = 0
            size = _size(out)
            if field == N_DATA and needed != OF_CLASSIC:
                needed = OF_SHORT if size <= SHORT else OF_LONG
    out[LENGTH] = got
    at[EDGE], at[COUNT_READ], at[LAST], at[RUN], at[STUFFED] = edge, count, last, run, stuffed
    sums[CLASSIC], sums[ISO17], sums[ISO21], sums[PLAIN17], sums[PLAIN21] = classic, iso17, iso21, plain17, plain21
    return ended


@njit(cache=True, nogil=True)
def _check_classic(edges: Any, first: Any, end: Any, clock: Any, at: Any, sums: Any, bits: Any) -> Any:
    """The checksum of a classic frame: what is wrong with it, below 0 where it is not whole."""
    value = 0
    for _ in range(15):
        passed = pass_stuffed(edges, first, end, clock, at, bits)
        level = take(edges, first, end, clock, at, bits, N_CRC) if passed == 0 else passed
        if level < 0:
            return level
        at[RUN] = at[RUN] + 1 if level == at[LAST] else 1
        at[LAST] = level
        value = value << 1 | level
    # A bit may have to be put in behind the last one, too.
    passed = pass_stuffed(edges, first, end, clock, at, bits)
    if passed < 0:
        return passed
    return CRC if value != sums[CLASSIC] else 0


@njit(cache=True, nogil=True)
def _try_flexible(
    edges: Any, first: Any, end: Any, clock: Any, at: Any, sums: Any, bits: Any, is_short: Any, is_iso: Any
) -> Any:
    """The count of stuff bits (not before ISO) and the checksum, a bit put in ahead of each four: what is wrong."""
    total = (17 if is_short else 21) + (4 if is_iso else 0)
    if is_iso:
        sum17, sum21 = sums[ISO17], sums[ISO21]
    else:
        sum17, sum21 = sums[PLAIN17], sums[PLAIN21]
    value, counted, wrong, last = 0, 0, 0, at[LAST]
    for n in range(total):
        if n % 4 == 0:
            level = take(edges, first, end, clock, at, bits, N_STUFF)
            if level < 0:
                return level
            wrong += 1 if level == last else 0
            last = level
        is_count = is_iso and n < 4
        level = take(edges, first, end, clock, at, bits, N_COUNT if is_count else N_CRC)
        if level < 0:
            return level
        last = level
        if is_count:
            counted = counted << 1 | level
            sum17 = shift(sum17, level, 16, POLY17)
            sum21 = shift(sum21, level, 20, POLY21)
        else:
            value = value << 1 | level
    wanted = sum17 if is_short else sum21
    if value != wanted or wrong > 0:
        return CRC
    if is_iso:
        gray = counted >> 1
        parity = (gray ^ gray >> 1 ^ gray >> 2) & 1
        if gray != _GRAY[at[STUFFED] & 7] or (counted & 1) != parity:
            return CRC
    return 0


@njit(cache=True, nogil=True)
def _check_flexible(
    edges: Any, first: Any, end: Any, clock: Any, at: Any, sums: Any, bits: Any, out: Any, usual: Any
) -> Any:
    """The checksum of a CAN FD frame: as the line's other frames are, then as they are not; where neither fits, the
    first again. What is wrong with it, below 0 where it is not whole."""
    likelier = NOT_ISO if usual == NOT_ISO or usual == NOT_ISO + ONLY else ISO
    is_short = out[LENGTH] <= SHORT
    began, length, bit = clock[0], clock[1], clock[2]
    edge, count = at[EDGE], at[COUNT_READ]
    wrong = 0
    for attempt in range(2 if usual >= ONLY else 0, 3):
        clock[0], clock[1], clock[2] = began, length, bit
        at[EDGE], at[COUNT_READ] = edge, count
        is_iso = (likelier == ISO) == (attempt != 1)
        wrong = _try_flexible(edges, first, end, clock, at, sums, bits, is_short, is_iso)
        if wrong <= 0:
            out[IS_ISO] = ISO if is_iso else NOT_ISO
            return wrong
    out[IS_ISO] = likelier
    return wrong


@njit(cache=True, nogil=True)
def _read_tail(edges: Any, first: Any, end: Any, clock: Any, at: Any, bits: Any, out: Any, slow: Any, fast: Any) -> Any:
    """What follows the checksum, up to the end of frame or an error flag; below 0 where it is not whole."""
    delimiter = take(edges, first, end, clock, at, bits, N_CRC_DEL)
    if delimiter < 0:
        return delimiter
    out[FAULTS] |= 0 if delimiter else FORM
    if out[FLAGS] & 2 and fast > 0:
        _slow_down(edges, clock, at, slow, fast)
    flag = np.int64(0)
    for n in range(9):
        kind = N_ACK if n == 0 else N_ACK_DEL if n == 1 else N_EOF
        noted = at[COUNT_READ]
        level = take(edges, first, end, clock, at, bits, kind)
        if level < 0:
            # The last bit of the end of frame may lie beyond what was recorded.
            if n < 8:
                return level
            break
        if n == 0:
            out[FAULTS] |= ACK if level else 0
        elif not level:
            # Who saw an error says so with a flag, from here on; a last bit that is low asks for more time.
            if n < 8:
                at[COUNT_READ] = noted
                flag = np.int64(np.rint(clock[2]))
                # A wrong CRC or a missing acknowledgement is why; without either the bit itself is wrong.
                out[FAULTS] |= 0 if out[FAULTS] & (CRC | ACK) else FORM
            break
    out[END] = flag if flag else np.int64(np.rint(clock[0]))
    following = at[EDGE] + 1
    if flag and following < len(edges) and edges[following] - flag >= LEAST_FLAG * slow:
        out[FLAG_BEGIN], out[FLAG_END] = flag, edges[following]
    return 0


@njit(cache=True, nogil=True)
def _read_parts(
    edges: Any, first: Any, end: Any, clock: Any, at: Any, slow: Any, fast: Any, turn: Any, usual: Any, out: Any,
    data: Any, used: Any, bits: Any,
) -> Any:  # fmt: skip
    """All parts of a frame, one after another; `OVER` or `TWICE` where one is not whole."""
    sums = np.zeros(5, np.int64)
    sums[ISO17], sums[ISO21] = 1 << 16, 1 << 20
    ended = _read_body(edges, first, end, clock, at, sums, slow, fast, turn, out, data, used, bits)
    if ended < 0:
        return ended
    if out[FLAGS] & 1:
        wrong = _check_flexible(edges, first, end, clock, at, sums, bits, out, usual)
    else:
        wrong = _check_classic(edges, first, end, clock, at, sums, bits)
        out[IS_ISO] = ISO
    if wrong < 0:
        return wrong
    out[FAULTS] |= wrong
    return _read_tail(edges, first, end, clock, at, bits, out, slow, fast)


@njit(cache=True, nogil=True)
def read_frame(
    edges: Any,
    first: Any,
    end: Any,
    k: Any,
    slow: Any,
    fast: Any,
    turn: Any,
    usual: Any,
    out: Any,
    data: Any,
    used: Any,
    bits: Any,
) -> Any:
    """Read a frame that begins with edge ``k``.

    Args:
        turn: How long BRS takes, in ns; 0 if that is not known yet.
        usual: `ISO` or `NOT_ISO`, as other CAN FD frames of the line are; `EITHER` if that is not known.
        out: Gets what was read, as far as it was read: see `END` and its like.
        data, used: Payloads, and where this one begins.
        bits: Gets begin, level and field of each bit, shape (`MOST_BITS`, 3); empty if nobody asks.

    Returns:
        The last edge that was read; and how many bits there were, negative where the recording ended within.
    """
    out[:] = 0
    clock = np.empty(3)
    clock[0], clock[1], clock[2] = np.float64(edges[k]), slow, np.float64(edges[k])
    at = np.zeros(5, np.int64)
    at[EDGE], at[LAST] = k - 1, 1
    ended = _read_parts(edges, first, end, clock, at, slow, fast, turn, usual, out, data, used, bits)
    if ended == OVER:
        return at[EDGE], -at[COUNT_READ]
    if ended == TWICE:
        out[END], out[FAULTS] = np.int64(np.rint(clock[0])), STUFF
    return at[EDGE], at[COUNT_READ]
