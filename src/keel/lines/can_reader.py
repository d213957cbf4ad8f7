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

from keel.model.frames import FD_LENGTHS

SAMPLE = 0.65
SWITCH = 0.8
"""Where in BRS and in the CRC delimiter the rate is taken to change, where no edge tells."""
CRC, STUFF, FORM, ACK, OVERLOAD, ERROR_FLAG = 1, 2, 4, 8, 16, 32
END, EXTENDED, IDENT, FLAGS, DLC, FAULTS, IS_ISO, LENGTH, TURN, KNOWN, FLAG_BEGIN, FLAG_END = range(12)
"""What `read_frame` gives: columns of ``out``. ``KNOWN`` is 1 where the identifier was read; ``FLAG_BEGIN`` and
``FLAG_END`` are when an error flag behind it began and ended, 0 without one."""
OUT = 12
LEAST_FLAG = 5.5
"""An error flag is six dominant bits or more."""
FIELDS = (
    "sof", "id", "srr", "ide", "id", "rtr", "r1", "r0", "fdf", "res", "brs", "esi", "dlc", "data", "stuff_count", "crc",
    "crc_delimiter", "ack", "ack_delimiter", "eof", "stuff",
)  # fmt: skip
"""By the number that the decoder gives; the last one is no field but bits that were put in."""
(
    _SOF, _ID, _SRR, _IDE, _ID2, _RTR, _R1, _R0, _FDF, _RES, _BRS, _ESI, _DLC, _DATA, _COUNT, _CRC, _CRC_DEL, _ACK,
    _ACK_DEL, _EOF, _STUFF,
) = range(len(FIELDS))  # fmt: skip
_LENGTHS = np.array(FD_LENGTHS, np.int64)
_GRAY = np.array([0, 1, 3, 2, 6, 7, 5, 4], np.int64)
MOST_BITS = 800
"""No frame has more bits, stuff bits included."""
ISO, NOT_ISO, EITHER = 1, 0, -1
ONLY = 2
"""Added to `ISO` or `NOT_ISO` where a person said which it is: then nothing else is tried."""


@njit(cache=True, nogil=True)
def _next_bit(edges: Any, first: Any, end: Any, clock: Any, j: Any) -> Any:
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


@njit(cache=True, nogil=True)
def _shift(register: Any, level: Any, top: Any, polynomial: Any) -> Any:
    """A checksum's register after one more bit; ``top`` is the number of its highest bit."""
    follows = (register >> top & 1) ^ level
    register = register << 1 & ((1 << (top + 1)) - 1)
    return register ^ polynomial if follows else register


@njit(cache=True, nogil=True)
def _note(bits: Any, count: Any, clock: Any, level: Any, field: Any) -> Any:
    """Note a bit, where there is room for it; how many there are then."""
    if count < len(bits):
        bits[count, 0], bits[count, 1], bits[count, 2] = np.int64(np.rint(clock[2])), level, field
    return count + 1


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
    clock[0], clock[1] = np.float64(edges[k]), slow
    j = k - 1
    count = 0
    last, run, stuffed = 1, 0, 0
    crc15 = 0
    crc17, crc21 = 1 << 16, 1 << 20
    plain17, plain21 = 0, 0
    ident, base, dlc, length = 0, 0, 0, 0
    extended = fd = brs = esi = remote = 0
    faults = 0
    got = 0
    field, left = _SOF, 1
    value = 0
    # What follows the header: 0 header, 1 data, 2 CRC.
    while True:
        # A stuff bit first, if one is due.
        if run == 5:
            level, j = _next_bit(edges, first, end, clock, j)
            if level < 0:
                return j, -count
            count = _note(bits, count, clock, level, _STUFF)
            if level == last:
                out[END], out[FAULTS] = np.int64(np.rint(clock[0])), STUFF
                return j, count
            stuffed += 1
            last, run = level, 1
            crc17 = _shift(crc17, level, 16, 0x1685B)
            crc21 = _shift(crc21, level, 20, 0x102899)
            plain17 = _shift(plain17, level, 16, 0x1685B)
            plain21 = _shift(plain21, level, 20, 0x102899)
        level, j = _next_bit(edges, first, end, clock, j)
        if level < 0:
            return j, -count
        count = _note(bits, count, clock, level, field)
        if level == last:
            run += 1
        else:
            last, run = level, 1
        crc15 = _shift(crc15, level, 14, 0x4599)
        crc17 = _shift(crc17, level, 16, 0x1685B)
        crc21 = _shift(crc21, level, 20, 0x102899)
        plain17 = _shift(plain17, level, 16, 0x1685B)
        plain21 = _shift(plain21, level, 20, 0x102899)
        value = value << 1 | level
        left -= 1
        if left > 0:
            continue
        # A field is whole.
        if field == _SOF:
            field, left = _ID, 11
        elif field == _ID:
            base, ident = value & 0x7FF, value & 0x7FF
            field, left = _SRR, 1
        elif field == _SRR:
            # In the base format this bit is RTR, or RRS of CAN FD.
            remote = level
            field, left = _IDE, 1
        elif field == _IDE:
            if level:
                extended = 1
                field, left = _ID2, 18
            else:
                out[KNOWN], out[IDENT] = 1, ident
                field, left = _FDF, 1
        elif field == _ID2:
            ident = base << 18 | (value & 0x3FFFF)
            out[KNOWN], out[IDENT], out[EXTENDED] = 1, ident, 1
            field, left = _RTR, 1
        elif field == _RTR:
            remote = level
            field, left = _FDF, 1
        elif field == _FDF:
            fd = level
            out[FLAGS] = fd | (0 if fd else remote << 3)
            field, left = (_RES, 1) if fd else ((_R0, 1) if extended else (_DLC, 4))
        elif field == _R0:
            field, left = _DLC, 4
        elif field == _RES:
            field, left = _BRS, 1
        elif field == _BRS:
            brs = level
            if brs and fast > 0:
                # The falling edge to a dominant ESI shows where this bit ended.
                begin = clock[2]
                wanted_end = begin + (turn if turn > 0 else SWITCH * slow + (1 - SWITCH) * fast)
                clock[0] = wanted_end
                if j + 1 < len(edges):
                    off = edges[j + 1] - wanted_end
                    if abs(off) < 0.5 * fast or (turn == 0 and edges[j + 1] - begin < 1.1 * slow):
                        clock[0] = np.float64(edges[j + 1])
                out[TURN] = np.int64(np.rint(clock[0] - begin))
                clock[1] = fast
            out[FLAGS] |= brs << 1
            field, left = _ESI, 1
        elif field == _ESI:
            esi = level
            out[FLAGS] |= esi << 2
            field, left = _DLC, 4
        elif field == _DLC:
            dlc = value & 15
            out[DLC] = dlc
            length = _LENGTHS[dlc] if fd else min(dlc, 8)
            if remote and not fd:
                length = 0
            if length:
                field, left = _DATA, 8
            else:
                break
        elif field == _DATA:
            data[used + got] = value & 0xFF
            got += 1
            out[LENGTH] = got
            if got == length:
                break
            left = 8
        value = 0
    iso = ISO
    if not fd:
        wanted, value = crc15, 0
        for _ in range(15):
            if run == 5:
                level, j = _next_bit(edges, first, end, clock, j)
                if level < 0:
                    return j, -count
                count = _note(bits, count, clock, level, _STUFF)
                if level == last:
                    out[END], out[FAULTS] = np.int64(np.rint(clock[0])), STUFF
                    return j, count
                last, run = level, 1
            level, j = _next_bit(edges, first, end, clock, j)
            if level < 0:
                return j, -count
            count = _note(bits, count, clock, level, _CRC)
            if level == last:
                run += 1
            else:
                last, run = level, 1
            value = value << 1 | level
        if run == 5:
            level, j = _next_bit(edges, first, end, clock, j)
            if level < 0:
                return j, -count
            count = _note(bits, count, clock, level, _STUFF)
            if level == last:
                out[END], out[FAULTS] = np.int64(np.rint(clock[0])), STUFF
                return j, count
        faults |= CRC if value != wanted else 0
    else:
        # A fixed stuff bit, the count of stuff bits (not before ISO), the CRC, with a fixed stuff bit after each four.
        size = 17 if length <= 16 else 21
        started = clock[0], clock[1], j, count, last
        likelier = NOT_ISO if usual == NOT_ISO or usual == NOT_ISO + ONLY else ISO
        for attempt in range(2 if usual >= ONLY else 0, 3):
            clock[0], clock[1] = started[0], started[1]
            j, count, last = started[2], started[3], started[4]
            # As the line's other frames are, then as they are not; where neither fits, the first again.
            is_iso = (likelier == ISO) == (attempt != 1)
            total = size + (4 if is_iso else 0)
            value, wrong, counted = 0, 0, 0
            reg17 = crc17 if is_iso else plain17
            reg21 = crc21 if is_iso else plain21
            for n in range(total):
                if n % 4 == 0:
                    level, j = _next_bit(edges, first, end, clock, j)
                    if level < 0:
                        return j, -count
                    count = _note(bits, count, clock, level, _STUFF)
                    wrong += 1 if level == last else 0
                    last = level
                level, j = _next_bit(edges, first, end, clock, j)
                if level < 0:
                    return j, -count
                count = _note(bits, count, clock, level, _COUNT if is_iso and n < 4 else _CRC)
                last = level
                if is_iso and n < 4:
                    counted = counted << 1 | level
                    reg17 = _shift(reg17, level, 16, 0x1685B)
                    reg21 = _shift(reg21, level, 20, 0x102899)
                else:
                    value = value << 1 | level
            wanted = reg17 if size == 17 else reg21
            bad = value != wanted or wrong > 0
            if is_iso:
                gray = counted >> 1
                parity = (gray ^ gray >> 1 ^ gray >> 2) & 1
                bad = bad or gray != _GRAY[stuffed & 7] or (counted & 1) != parity
            if not bad:
                iso = ISO if is_iso else NOT_ISO
                break
            if attempt == 2:
                faults |= CRC
                iso = likelier
    # The CRC delimiter, at whose sample point the rate changes back.
    level, j = _next_bit(edges, first, end, clock, j)
    if level < 0:
        return j, -count
    count = _note(bits, count, clock, level, _CRC_DEL)
    if not level:
        faults |= FORM
    if brs and fast > 0:
        begin = clock[2]
        clock[1] = slow
        if j + 1 < len(edges) and edges[j + 1] - begin < 1.6 * slow:
            clock[0] = np.float64(edges[j + 1])
        else:
            clock[0] = begin + SWITCH * fast + (1 - SWITCH) * slow
    flag = np.int64(0)
    for n in range(9):
        level, j = _next_bit(edges, first, end, clock, j)
        if level < 0:
            if n < 9 - 1:
                return j, -count
            break
        kind = _ACK if n == 0 else _ACK_DEL if n == 1 else _EOF
        if n > 0 and not level:
            # Who saw an error says so with a flag, from here on; a last bit that is low asks for more time.
            if n < 8:
                flag = np.int64(np.rint(clock[2]))
                # A wrong CRC or a missing acknowledgement is why; without either the bit itself is wrong.
                faults |= 0 if faults & (CRC | ACK) else FORM
            else:
                count = _note(bits, count, clock, level, kind)
            break
        count = _note(bits, count, clock, level, kind)
        if n == 0:
            faults |= ACK if level else 0
    out[END] = flag if flag else np.int64(np.rint(clock[0]))
    if flag and j + 1 < len(edges) and edges[j + 1] - flag >= LEAST_FLAG * slow:
        out[FLAG_BEGIN], out[FLAG_END] = flag, edges[j + 1]
    out[EXTENDED], out[IDENT], out[KNOWN] = extended, ident, 1
    out[FLAGS] = fd | brs << 1 | esi << 2 | (remote if not fd else 0) << 3
    out[DLC], out[FAULTS], out[IS_ISO], out[LENGTH] = dlc, faults, iso, length
    return j, count
