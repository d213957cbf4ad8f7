"""CAN and CAN FD from the levels of a line: frames, and the bits each is made of.

The line rests high (recessive). Bits are sampled past their middle; every falling edge begins a bit anew, as the
standard has it. In CAN FD the bit rate changes at the sample point of BRS, and back at that of the CRC delimiter: where
exactly that is, is not known from outside, so the falling edge that follows sets it.

Source: ISO 11898-1:2015, 10.4 (formats), 10.5 (stuffing), 10.4.2.6 (CRC; its seeds and the stuff count of CAN FD), 11.3
(synchronisation).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit

from keel.model.faults import Fault
from keel.model.frames import FD_LENGTHS, Flag, Times
from keel.model.identity import NO_IDENT, Form
from keel.model.waveform import Logic

SAMPLE = 0.65
SWITCH = 0.8
"""Where in BRS and in the CRC delimiter the rate is taken to change, where no edge tells."""
IDLE_BITS = 10.4
"""So many recessive bits follow every frame and every error, but for the intermission after good ones."""
INTERMISSION = 2.3
CRC, STUFF, FORM, ACK = 1, 2, 4, 8
FAULTS = {CRC: Fault.CRC, STUFF: Fault.STUFF, FORM: Fault.FORM, ACK: Fault.ACK}
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
ISO, NOT_ISO = 1, 0


@dataclass(frozen=True)
class CanRates:
    """Bits per second; ``fast`` is 0 where the rate never changes. ``turn_ns`` is how long BRS takes, 0 if unknown."""

    slow: float
    fast: float = 0.0
    turn_ns: float = 0.0


@dataclass(frozen=True, eq=False)
class CanSent:
    """Frames on a line, shape (n,); ``data`` holds their payloads end to end, ``offsets`` (n + 1,) tell whose."""

    starts: Times
    ends: Times
    form: Any
    ident: Any
    flags: Any
    dlc: Any
    faults: Any
    iso: Any
    offsets: Any
    data: Any

    def __len__(self) -> int:
        return len(self.starts)

    @property
    def good(self) -> Any:
        """Which are right: a missing acknowledgement is nothing that is wrong with a frame's bits."""
        return (self.faults & ~np.uint8(ACK)) == 0


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
def _frame(
    edges: Any, first: Any, end: Any, k: Any, slow: Any, fast: Any, turn: Any, out: Any, data: Any, used: Any, bits: Any
) -> Any:
    """Read a frame that begins with edge ``k``.

    Args:
        turn: How long BRS takes, in ns; 0 if that is not known yet.
        out: Gets end, form, identifier, flags, DLC, faults, whether it is ISO, the payload's length, how long BRS took.
        data, used: Payloads, and where this one begins.
        bits: Gets begin, level and field of each bit, shape (`MOST_BITS`, 3); empty if nobody asks.

    Returns:
        The last edge that was read; and how many bits there were, negative where the recording ended within.
    """
    clock = np.empty(3)
    clock[0], clock[1] = np.float64(edges[k]), slow
    j = k - 1
    wants = len(bits) > 0
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
            if wants and count < len(bits):
                bits[count, 0], bits[count, 1], bits[count, 2] = np.int64(np.rint(clock[2])), level, _STUFF
            count += 1
            if level == last:
                out[0], out[5] = np.int64(np.rint(clock[0])), STUFF
                return j, count
            stuffed += 1
            last, run = level, 1
            top = (crc17 >> 16 & 1) ^ level
            crc17 = (crc17 << 1 & 0x1FFFF) ^ (0x1685B if top else 0)
            top = (crc21 >> 20 & 1) ^ level
            crc21 = (crc21 << 1 & 0x1FFFFF) ^ (0x102899 if top else 0)
            top = (plain17 >> 16 & 1) ^ level
            plain17 = (plain17 << 1 & 0x1FFFF) ^ (0x1685B if top else 0)
            top = (plain21 >> 20 & 1) ^ level
            plain21 = (plain21 << 1 & 0x1FFFFF) ^ (0x102899 if top else 0)
        level, j = _next_bit(edges, first, end, clock, j)
        if level < 0:
            return j, -count
        if wants and count < len(bits):
            bits[count, 0], bits[count, 1], bits[count, 2] = np.int64(np.rint(clock[2])), level, field
        count += 1
        if level == last:
            run += 1
        else:
            last, run = level, 1
        top = (crc15 >> 14 & 1) ^ level
        crc15 = (crc15 << 1 & 0x7FFF) ^ (0x4599 if top else 0)
        top = (crc17 >> 16 & 1) ^ level
        crc17 = (crc17 << 1 & 0x1FFFF) ^ (0x1685B if top else 0)
        top = (crc21 >> 20 & 1) ^ level
        crc21 = (crc21 << 1 & 0x1FFFFF) ^ (0x102899 if top else 0)
        top = (plain17 >> 16 & 1) ^ level
        plain17 = (plain17 << 1 & 0x1FFFF) ^ (0x1685B if top else 0)
        top = (plain21 >> 20 & 1) ^ level
        plain21 = (plain21 << 1 & 0x1FFFFF) ^ (0x102899 if top else 0)
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
                field, left = _FDF, 1
        elif field == _ID2:
            ident = base << 18 | (value & 0x3FFFF)
            field, left = _RTR, 1
        elif field == _RTR:
            remote = level
            field, left = _FDF, 1
        elif field == _FDF:
            fd = level
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
                out[8] = np.int64(np.rint(clock[0] - begin))
                clock[1] = fast
            field, left = _ESI, 1
        elif field == _ESI:
            esi = level
            field, left = _DLC, 4
        elif field == _DLC:
            dlc = value & 15
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
                if wants and count < len(bits):
                    bits[count, 0], bits[count, 1], bits[count, 2] = np.int64(np.rint(clock[2])), level, _STUFF
                count += 1
                if level == last:
                    out[0], out[5] = np.int64(np.rint(clock[0])), STUFF
                    return j, count
                last, run = level, 1
            level, j = _next_bit(edges, first, end, clock, j)
            if level < 0:
                return j, -count
            if wants and count < len(bits):
                bits[count, 0], bits[count, 1], bits[count, 2] = np.int64(np.rint(clock[2])), level, _CRC
            count += 1
            if level == last:
                run += 1
            else:
                last, run = level, 1
            value = value << 1 | level
        if run == 5:
            level, j = _next_bit(edges, first, end, clock, j)
            if level < 0:
                return j, -count
            if wants and count < len(bits):
                bits[count, 0], bits[count, 1], bits[count, 2] = np.int64(np.rint(clock[2])), level, _STUFF
            count += 1
            if level == last:
                out[0], out[5] = np.int64(np.rint(clock[0])), STUFF
                return j, count
        faults |= CRC if value != wanted else 0
    else:
        # A fixed stuff bit, the count of stuff bits (not before ISO), the CRC, with a fixed stuff bit after each four.
        size = 17 if length <= 16 else 21
        started = clock[0], clock[1], j, count, last
        for attempt in range(2):
            clock[0], clock[1] = started[0], started[1]
            j, count, last = started[2], started[3], started[4]
            is_iso = attempt == 0
            total = size + (4 if is_iso else 0)
            value, wrong, counted = 0, 0, 0
            reg17 = crc17 if is_iso else plain17
            reg21 = crc21 if is_iso else plain21
            for n in range(total):
                if n % 4 == 0:
                    level, j = _next_bit(edges, first, end, clock, j)
                    if level < 0:
                        return j, -count
                    if wants and count < len(bits):
                        bits[count, 0], bits[count, 1], bits[count, 2] = np.int64(np.rint(clock[2])), level, _STUFF
                    count += 1
                    wrong += 1 if level == last else 0
                    last = level
                level, j = _next_bit(edges, first, end, clock, j)
                if level < 0:
                    return j, -count
                if wants and count < len(bits):
                    bits[count, 0], bits[count, 1] = np.int64(np.rint(clock[2])), level
                    bits[count, 2] = _COUNT if is_iso and n < 4 else _CRC
                count += 1
                last = level
                if is_iso and n < 4:
                    counted = counted << 1 | level
                    top = (reg17 >> 16 & 1) ^ level
                    reg17 = (reg17 << 1 & 0x1FFFF) ^ (0x1685B if top else 0)
                    top = (reg21 >> 20 & 1) ^ level
                    reg21 = (reg21 << 1 & 0x1FFFFF) ^ (0x102899 if top else 0)
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
            if attempt == 1:
                # Neither: what is read is read as ISO has it, and said to be wrong.
                faults |= CRC
                iso = ISO
    # The CRC delimiter, at whose sample point the rate changes back.
    level, j = _next_bit(edges, first, end, clock, j)
    if level < 0:
        return j, -count
    if wants and count < len(bits):
        bits[count, 0], bits[count, 1], bits[count, 2] = np.int64(np.rint(clock[2])), level, _CRC_DEL
    count += 1
    if not level:
        faults |= FORM
    if brs and fast > 0:
        begin = clock[2]
        clock[1] = slow
        if j + 1 < len(edges) and edges[j + 1] - begin < 1.6 * slow:
            clock[0] = np.float64(edges[j + 1])
        else:
            clock[0] = begin + SWITCH * fast + (1 - SWITCH) * slow
    for n in range(9):
        level, j = _next_bit(edges, first, end, clock, j)
        if level < 0:
            if n < 9 - 1:
                return j, -count
            break
        kind = _ACK if n == 0 else _ACK_DEL if n == 1 else _EOF
        if wants and count < len(bits):
            bits[count, 0], bits[count, 1], bits[count, 2] = np.int64(np.rint(clock[2])), level, kind
        count += 1
        if n == 0:
            faults |= ACK if level else 0
        elif not level:
            # Who saw a wrong CRC says so here; a last bit that is low is an overload, no fault of this frame.
            if n < 8 and not faults & CRC:
                faults |= FORM
            break
    out[0] = np.int64(np.rint(clock[0]))
    out[1], out[2] = extended, ident
    out[3] = fd | brs << 1 | esi << 2 | (remote if not fd else 0) << 3
    out[4], out[5], out[6], out[7] = dlc, faults, iso, length
    return j, count


@njit(cache=True, nogil=True)
def _decode(
    edges: Any, first: Any, begin: Any, end: Any, slow: Any, fast: Any, turn: Any, out: Any, data: Any, table: Any
) -> Any:
    """All frames; how many, and how many bytes their payloads have."""
    n = used = 0
    nothing = np.empty((0, 3), np.int64)
    k = 0
    count = len(edges)
    # Whether the line rested long enough before: else what comes may be the rest of a frame.
    rested = False
    free_from = np.float64(begin)
    while k < count:
        if (first ^ (k + 1)) & 1:
            k += 1
            continue
        before = edges[k] - (edges[k - 1] if k else begin)
        is_sure = before >= IDLE_BITS * slow
        if not (is_sure or (rested and edges[k] >= free_from) or k == 0):
            k += 1
            continue
        out[5] = out[7] = out[8] = 0
        last, bits = _frame(edges, first, end, k, slow, fast, turn, out, data, used, nothing)
        if bits < 0:
            # Cut by the end of what was recorded.
            break
        doubtful = not is_sure and not rested
        if out[5] & (STUFF | FORM | CRC) and doubtful:
            k += 1
            continue
        table[n, 0], table[n, 1] = edges[k], out[0]
        for c in range(8):
            table[n, 2 + c] = out[1 + c]
        if out[5] == STUFF:
            table[n, 2] = 255
            table[n, 3] = table[n, 4] = table[n, 5] = table[n, 8] = 0
        else:
            used += out[7]
        n += 1
        if out[5] & (STUFF | FORM | CRC):
            rested = False
            k = last + 1
        else:
            rested = True
            free_from = out[0] + INTERMISSION * slow
            k = last + 1
    return n, used


def decode(logic: Logic, rates: CanRates) -> CanSent:
    """The frames on a line that rests high."""
    parts = [_of_stretch(part, rates) for part in logic.stretches()]
    none = np.zeros(0, np.int64)

    def joined(name: str) -> Any:
        return np.concatenate([getattr(part, name) for part in parts]) if parts else none

    lengths = np.concatenate([np.diff(part.offsets) for part in parts]) if parts else none
    columns = {
        name: joined(name) for name in ("starts", "ends", "form", "ident", "flags", "dlc", "faults", "iso", "data")
    }
    return CanSent(**columns, offsets=np.concatenate([[0], np.cumsum(lengths)]))


def turn_of(logic: Logic, rates: CanRates) -> float:
    """How long BRS takes on a line, in ns: that of most frames whose end of BRS an edge shows; 0 if none does."""
    if not rates.fast:
        return 0.0
    for part in logic.stretches():
        table, _ = _table(part, rates, 0.0)
        took = table[(table[:, 9] > 0) & ((table[:, 6] & ~ACK) == 0), 9]
        if len(took):
            return float(np.median(took))
    return 0.0


def _table(part: Logic, rates: CanRates, turn: float) -> tuple[Any, Any]:
    """Frames as rows, and their payloads."""
    edges = np.ascontiguousarray(part.edges)
    room = len(edges) // 2 + 2
    table = np.zeros((room, 10), np.int64)
    data = np.zeros(len(edges) * 6 + 128, np.uint8)
    out = np.zeros(9, np.int64)
    fast = 1e9 / rates.fast if rates.fast else 0.0
    n, used = _decode(edges, part.first, part.start, part.end, 1e9 / rates.slow, fast, turn, out, data, table)
    return table[:n], data[:used]


def _of_stretch(part: Logic, rates: CanRates) -> CanSent:
    table, data = _table(part, rates, rates.turn_ns)
    n = len(table)
    kinds, faults = table[:, 4], table[:, 6].astype(np.uint8)
    is_error = table[:, 2] == NO_IDENT
    flags = np.where(kinds & 1, int(Flag.FD), 0) | np.where(kinds & 2, int(Flag.BRS), 0)
    flags |= np.where(kinds & 4, int(Flag.ESI), 0) | np.where(kinds & 8, int(Flag.REMOTE), 0)
    flags |= np.where(is_error, int(Flag.ERROR), 0)
    form = np.where(is_error, NO_IDENT, np.where(table[:, 2] == 1, int(Form.EXTENDED), int(Form.BASE)))
    offsets = np.zeros(n + 1, np.int64)
    np.cumsum(table[:, 8], out=offsets[1:])
    return CanSent(
        table[:, 0].copy(), table[:, 1].copy(), form.astype(np.uint8), table[:, 3].astype(np.uint64),
        flags.astype(np.uint16), table[:, 5].astype(np.uint8), faults, table[:, 7].astype(np.uint8), offsets,
        data.copy(),
    )  # fmt: skip


def bits_of(logic: Logic, start: int, rates: CanRates) -> Any:
    """The bits of the frame that begins at ``start``: begin in ns, level, field's number (`FIELDS`); shape (n, 3)."""
    part = next((one for one in logic.stretches() if one.start <= start < one.end), None)
    if part is None:
        return np.zeros((0, 3), np.int64)
    edges = np.ascontiguousarray(part.edges)
    k = int(np.searchsorted(edges, start))
    if k >= len(edges) or edges[k] != start:
        return np.zeros((0, 3), np.int64)
    bits, out = np.zeros((MOST_BITS, 3), np.int64), np.zeros(9, np.int64)
    fast = 1e9 / rates.fast if rates.fast else 0.0
    _, count = _frame(
        edges, part.first, part.end, k, 1e9 / rates.slow, fast, rates.turn_ns, out, np.zeros(128, np.uint8), 0, bits
    )
    return bits[: abs(int(count))]
