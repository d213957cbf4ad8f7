"""The CAN frame as bits on the wire: CRC, stuffing, and the exact number of bits it takes.

A classic frame is stuffed from start of frame through its 15-bit CRC. A CAN FD frame is stuffed from start
of frame to the end of its data; its CRC field has fixed stuff bits instead, so its length does not depend
on the CRC's value. Every frame is followed by 3 bits of intermission.

Source: ISO 11898-1:2015, 10.4 (formats), 10.5 (stuffing).
"""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt
from numba import njit

from keel.model.faults import Fault
from keel.model.frames import FD_LENGTHS, Flag, FrameBatch, replace_columns
from keel.model.identity import Form
from keel.model.words64 import load_word

CRC15_POLYNOMIAL = 0x4599
CLASSIC_TAIL = 13
"""CRC delimiter, ACK, ACK delimiter, end of frame (7), intermission (3)."""
FD_TAIL = 12
"""As above without the CRC delimiter, which still runs at the data bit rate."""
FD_CRC17_FIELD = 27
"""Stuff count (4), CRC (17), fixed stuff bits (6)."""
FD_CRC21_FIELD = 32
"""Stuff count (4), CRC (21), fixed stuff bits (7)."""
ERROR_FRAME_BITS = 17
"""The shortest error frame: flag (6), delimiter (8), intermission (3). Echoed flags, and how much of a frame
went before, cannot be known."""

_FD_LENGTHS = np.array(FD_LENGTHS, np.int64)
_REMOTE, _ERROR, _FD, _BRS, _ESI = (int(f) for f in (Flag.REMOTE, Flag.ERROR, Flag.FD, Flag.BRS, Flag.ESI))
_CRC_FAULT, _ACK_FAULT, _TRUNCATED = int(Fault.CRC), int(Fault.ACK), int(Fault.TRUNCATED)
_EXTENDED = int(Form.EXTENDED)
_NO_ID = int(Form.NONE)


def _stuff_tables() -> tuple[npt.NDArray[np.uint8], npt.NDArray[np.uint8]]:
    """Stuffing up to a byte at a time.

    A state is the last level on the wire and how often it stood there (1 to 4), as ``level * 4 + run - 1``;
    a fifth equal bit is followed at once by its complement, which starts a run of its own.

    Returns:
        Stuff bits that so many bits of a byte, the lower ones, cause, with bit 7 set if the last came after the last
        bit; and the state after them; both indexed [count of bits, state, byte].
    """
    stuffed = np.zeros((9, 8, 256), np.uint8)
    after = np.zeros((9, 8, 256), np.uint8)
    for size in range(9):
        for state in range(8):
            for byte in range(1 << size):
                level, run = divmod(state, 4)
                run += 1
                count = ended = 0
                for i in range(size - 1, -1, -1):
                    bit = byte >> i & 1
                    ended = 0
                    run = run + 1 if bit == level else 1
                    level = bit
                    if run == 5:
                        count, ended, level, run = count + 1, 1, 1 - bit, 1
                stuffed[size, state, byte] = count | ended << 7
                after[size, state, byte] = level * 4 + run - 1
    return stuffed, after


def _crc15_table() -> npt.NDArray[np.uint16]:
    table = np.zeros(256, np.uint16)
    for byte in range(256):
        crc = byte << 7
        for _ in range(8):
            crc = (crc << 1) ^ CRC15_POLYNOMIAL if crc & 0x4000 else crc << 1
        table[byte] = crc & 0x7FFF
    return table


def _crc15_tables(table: npt.NDArray[np.uint16]) -> npt.NDArray[np.uint16]:
    """The CRC of a byte that so many bytes of zeros follow, shape (8, 256): of eight bytes the CRCs add up.

    Source: M. E. Kounavis and F. L. Berry, A systematic approach to building high performance software-based CRC
    generators, 2005.
    """
    tables = [table]
    for _ in range(7):
        before = tables[-1]
        tables.append(((before << 8) & 0x7FFF) ^ table[(before >> 7) & 0xFF])
    return np.stack(tables).astype(np.uint16)


_PIECES, _AFTER_PIECES = _stuff_tables()
_STUFFED, _AFTER = _PIECES[8].copy(), _AFTER_PIECES[8].copy()
_STEPS = ((_STUFFED & 0x7F).astype(np.uint16) | _AFTER.astype(np.uint16) << 8).reshape(-1)
"""Stuff bits that a whole byte causes, and the state after it in the upper byte; by state and byte."""
_CRC15 = _crc15_table()
_CRC15_AFTER = _crc15_tables(_CRC15)


@njit(cache=True, nogil=True)
def _feed_bits(value: int, count: int, state: int, stuffs: int) -> tuple[int, int, int]:
    """Stuff ``count`` bits of ``value``, most significant first; also whether the last bit caused one."""
    ended = 0
    left = count
    while left > 0:
        size = left & 7 or 8
        left -= size
        piece = (value >> left) & ((1 << size) - 1)
        cell = _PIECES[size, state, piece]
        stuffs += cell & 0x7F
        ended = cell >> 7
        state = _AFTER_PIECES[size, state, piece]
    return state, stuffs, ended


@njit(cache=True, nogil=True)
def _wire_bits(
    ident: Any, form: Any, flags: Any, faults: Any, dlc: Any, offsets: Any, data: Any, bits: Any, fast: Any
) -> None:
    # What a classic frame's head makes of stuffing and CRC, by head: a bus has few that differ.
    heads = np.full(256, -1, np.int64)
    head_states, head_stuffs = np.zeros(256, np.int64), np.zeros(256, np.int64)
    head_crcs = np.zeros(256, np.int64)
    for i in range(len(ident)):
        if form[i] > _EXTENDED and form[i] != _NO_ID:
            # A frame of another kind of line.
            bits[i] = fast[i] = 0
            continue
        flag = int(flags[i])
        ended_late = faults[i] & (_CRC_FAULT | _ACK_FAULT)
        if form[i] == _NO_ID or (flag & _ERROR and not ended_late):
            bits[i] = ERROR_FRAME_BITS
            fast[i] = 0
            continue
        # A frame that failed at its end was on the wire nearly whole: the error frame stands in place of the
        # end of frame and intermission (CRC: signalled after the ACK delimiter; ACK: in its place).
        extra = 0
        if flag & _ERROR:
            extra = ERROR_FRAME_BITS - (11 if faults[i] & _ACK_FAULT else 10)
        number = np.int64(ident[i])
        extended = form[i] == _EXTENDED
        start = int(offsets[i])
        length = int(offsets[i + 1]) - start
        code = int(dlc[i]) & 15
        # The state after start of frame, one dominant bit.
        state, stuffs, ended = 0, 0, 0
        if flag & _FD:
            size = max(int(_FD_LENGTHS[code]), length)
            brs = 1 if flag & _BRS else 0
            esi = 1 if flag & _ESI else 0
            if extended:
                head = (((number >> 18) << 2 | 3) << 18 | (number & 0x3FFFF)) << 4 | 4 | brs
                head_bits = 35
            else:
                head = number << 5 | 4 | brs
                head_bits = 16
            state, stuffs, ended = _feed_bits(head, head_bits, state, stuffs)
            slow_stuffs = stuffs - ended if brs else stuffs
            state, stuffs, ended = _feed_bits(esi << 4 | code, 5, state, stuffs)
            for k in range(size):
                byte = data[start + k] if k < length else 0
                cell = _STUFFED[state, byte]
                stuffs += cell & 0x7F
                ended = cell >> 7
                state = _AFTER[state, byte]
            # The first fixed stuff bit stands where a dynamic one after the last data bit would.
            stuffs -= ended
            field = FD_CRC17_FIELD if size <= 16 else FD_CRC21_FIELD
            rest = 5 + 8 * size + field + 1
            if brs:
                bits[i] = 1 + head_bits + slow_stuffs + FD_TAIL + extra
                fast[i] = rest + stuffs - slow_stuffs
            else:
                bits[i] = 1 + head_bits + stuffs + rest + FD_TAIL + extra
                fast[i] = 0
            continue
        remote = 1 if flag & _REMOTE else 0
        if extended:
            head = ((((number >> 18) << 2 | 3) << 18 | (number & 0x3FFFF)) << 3 | remote << 2) << 4 | code
            head_bits = 38
        else:
            head = (number << 3 | remote << 2) << 4 | code
            head_bits = 18
        slot = ((head >> 4) ^ (head >> 12) ^ (head >> 22)) & 0xFF
        if heads[slot] != head << 1 | extended:
            state, stuffs, ended = _feed_bits(head, head_bits, state, stuffs)
            # Leading zeros do not change this CRC, so the head counts as whole bytes.
            crc = 0
            for shift in range(32, -8, -8):
                crc = ((crc << 8) & 0x7FFF) ^ _CRC15[((crc >> 7) ^ (head >> shift)) & 0xFF]
            heads[slot], head_states[slot] = head << 1 | extended, state
            head_stuffs[slot], head_crcs[slot] = stuffs, crc
        state, stuffs, crc = head_states[slot], head_stuffs[slot], head_crcs[slot]
        size = 0 if remote else min(length, 8)
        if faults[i] & _TRUNCATED and not remote:
            # What the capture left out was on the wire; which bits is not known.
            size = max(size, min(code, 8))
        done = 0
        if size == 8 and length == 8 and start + 8 <= len(data):
            # Most frames have eight bytes: their CRCs are looked up beside each other, not one after another.
            word = load_word(data, start)
            left = word ^ np.uint64((crc >> 7) | (crc & 0x7F) << 9)
            crc = np.int64(0)
            step = np.uint64(state)
            for k in range(8):
                crc ^= np.int64(_CRC15_AFTER[7 - k, left & np.uint64(0xFF)])
                cell = np.uint64(_STEPS[step << np.uint64(8) | word & np.uint64(0xFF)])
                stuffs += np.int64(cell & np.uint64(0xFF))
                step = cell >> np.uint64(8)
                left >>= np.uint64(8)
                word >>= np.uint64(8)
            state, done = np.int64(step), 8
        for k in range(done, size):
            byte = data[start + k] if k < length else 0
            crc = ((crc << 8) & 0x7FFF) ^ _CRC15[((crc >> 7) ^ byte) & 0xFF]
            stuffs += _STUFFED[state, byte] & 0x7F
            state = _AFTER[state, byte]
        state, stuffs, ended = _feed_bits(crc, 15, state, stuffs)
        bits[i] = 1 + head_bits + 8 * size + 15 + stuffs + CLASSIC_TAIL + extra
        fast[i] = 0


def with_wire_bits(batch: FrameBatch) -> FrameBatch:
    """The batch with ``bits`` and ``fast_bits`` counted exactly, stuffing and intermission included.

    Bits up to and including the BRS bit, and from the ACK slot on, count at the arbitration bit rate; those
    between at the data bit rate when BRS is set.
    """
    bits, fast = np.empty(len(batch), np.uint32), np.empty(len(batch), np.uint16)
    offsets = batch.offsets.astype(np.int64, copy=False)
    columns = (batch.ident, batch.form, batch.flags, batch.faults, batch.dlc)
    _wire_bits(*map(np.ascontiguousarray, columns), offsets, np.ascontiguousarray(batch.data), bits, fast)
    return replace_columns(batch, bits=bits, fast_bits=fast)
