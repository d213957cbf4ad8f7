"""CAN and CAN FD from the levels of a line: all its frames, and the bits each is made of.

Source: ISO 11898-1:2015, 10.4 (formats), 10.9 (when a node may send).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit

from keel.lines.can_bit_reader import MOST_BITS
from keel.lines.can_reader import (
    ACK,
    CRC,
    DLC,
    EITHER,
    END,
    ERROR_FLAG,
    EXTENDED,
    FAULTS,
    FLAG_BEGIN,
    FLAG_END,
    FLAGS,
    FORM,
    IDENT,
    IS_ISO,
    KNOWN,
    LENGTH,
    OUT,
    OVERLOAD,
    STUFF,
    TURN,
    read_frame,
)
from keel.model.faults import Fault
from keel.model.frames import Flag, Times
from keel.model.identity import NO_IDENT, Form
from keel.model.waveform import Logic

IDLE_BITS = 10.4
"""So many recessive bits follow every frame and every error, but for the intermission after good ones."""
INTERMISSION, OVERLOAD_FLAG, OVERLOAD_DELIMITER = 2.3, (5.5, 13.5), 8
"""In bits: a frame may begin behind so many; what begins before is an overload flag if it is so long."""
FAULT_OF = {
    OVERLOAD: Fault.OVERLOAD, CRC: Fault.CRC, STUFF: Fault.STUFF, FORM: Fault.FORM, ACK: Fault.ACK,
    ERROR_FLAG: Fault.ERROR_FLAG,
}  # fmt: skip


@dataclass(frozen=True)
class CanRates:
    """How a line is read.

    Attributes:
        slow, fast: Bits per second; ``fast`` is 0 where the rate never changes.
        turn_ns: How long BRS takes, 0 if that is not known.
        usual: `ISO`, `NOT_ISO`: which CAN FD most frames are; `EITHER` if that is not known.
    """

    slow: float
    fast: float = 0.0
    turn_ns: float = 0.0
    usual: int = EITHER


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

    @property
    def is_follow_up(self) -> Any:
        """Which are no frames but what others made of one: error flags, overload flags."""
        return (self.faults & np.uint8(ERROR_FLAG | OVERLOAD)) != 0


T_START, T_END, T_FORM, T_IDENT, T_FLAGS, T_DLC, T_FAULTS, T_ISO, T_LENGTH, T_TURN = range(10)
"""Columns of the table that `_decode` fills."""
CUT = 16
"""In `T_FLAGS`: an error frame, of what it interrupts as far as that was read."""


@njit(cache=True, nogil=True)
def _decode(
    edges: Any, first: Any, begin: Any, end: Any, slow: Any, fast: Any, turn: Any, usual: Any, out: Any, data: Any,
    table: Any,
) -> Any:  # fmt: skip
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
        if rested and not is_sure and edges[k] < free_from and k + 1 < count:
            flag = edges[k + 1] - edges[k]
            if OVERLOAD_FLAG[0] * slow <= flag <= OVERLOAD_FLAG[1] * slow:
                # Somebody asks for more time: a flag in the intermission, and a delimiter behind it.
                table[n] = 0
                table[n, T_START] = edges[k]
                table[n, T_END] = edges[k + 1] + np.int64(np.rint(OVERLOAD_DELIMITER * slow))
                table[n, T_FORM], table[n, T_FAULTS] = NO_IDENT, OVERLOAD
                free_from = table[n, T_END] + INTERMISSION * slow
                n += 1
                k += 2
                continue
        if not (is_sure or (rested and edges[k] >= free_from) or k == 0):
            k += 1
            continue
        last, bits = read_frame(edges, first, end, k, slow, fast, turn, usual, out, data, used, nothing)
        if bits < 0:
            # Cut by the end of what was recorded.
            break
        doubtful = not is_sure and not rested
        if out[FAULTS] & (STUFF | FORM | CRC) and doubtful:
            k += 1
            continue
        is_cut = out[FAULTS] == STUFF
        table[n, T_START], table[n, T_END] = edges[k], out[END]
        table[n, T_FORM] = out[EXTENDED] if out[KNOWN] else NO_IDENT
        table[n, T_IDENT] = out[IDENT] if out[KNOWN] else 0
        table[n, T_FLAGS] = out[FLAGS] | (CUT if is_cut else 0)
        table[n, T_DLC], table[n, T_FAULTS], table[n, T_ISO] = out[DLC], out[FAULTS], out[IS_ISO]
        table[n, T_LENGTH], table[n, T_TURN] = out[LENGTH], out[TURN]
        used += out[LENGTH]
        n += 1
        if out[FLAG_BEGIN]:
            # Somebody saw the error: the flag, and the delimiter behind it.
            table[n] = table[n - 1]
            table[n, T_START] = out[FLAG_BEGIN]
            table[n, T_END] = out[FLAG_END] + np.int64(np.rint(OVERLOAD_DELIMITER * slow))
            table[n, T_FLAGS], table[n, T_DLC], table[n, T_FAULTS] = CUT, 0, ERROR_FLAG
            table[n, T_LENGTH] = table[n, T_TURN] = 0
            n += 1
        if out[FAULTS] & (STUFF | FORM | CRC) or out[FLAG_BEGIN]:
            rested = False
        else:
            rested = True
            free_from = out[END] + INTERMISSION * slow
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


def usual_of(sent: CanSent) -> int:
    """Which CAN FD the frames of a line are whose checksum fits: `ISO`, `NOT_ISO`, or `EITHER` if none tells."""
    told = sent.good & ((sent.flags & Flag.FD) != 0)
    if not told.any():
        return EITHER
    return int(2 * sent.iso[told].sum() >= told.sum())


def turn_of(logic: Logic, rates: CanRates) -> float:
    """How long BRS takes on a line, in ns: that of most frames whose end of BRS an edge shows; 0 if none does."""
    if not rates.fast:
        return 0.0
    for part in logic.stretches():
        table, _ = _table(part, rates, 0.0)
        took = table[(table[:, T_TURN] > 0) & ((table[:, T_FAULTS] & ~ACK) == 0), T_TURN]
        if len(took):
            return float(np.median(took))
    return 0.0


def _table(part: Logic, rates: CanRates, turn: float) -> tuple[Any, Any]:
    """Frames as rows, and their payloads."""
    edges = np.ascontiguousarray(part.edges)
    room = len(edges) + 2
    table = np.zeros((room, 10), np.int64)
    data = np.zeros(len(edges) * 6 + 128, np.uint8)
    out = np.zeros(OUT, np.int64)
    fast = 1e9 / rates.fast if rates.fast else 0.0
    n, used = _decode(
        edges, part.first, part.start, part.end, 1e9 / rates.slow, fast, turn, rates.usual, out, data, table
    )
    return table[:n], data[:used]


def _of_stretch(part: Logic, rates: CanRates) -> CanSent:
    table, data = _table(part, rates, rates.turn_ns)
    n = len(table)
    kinds, faults = table[:, T_FLAGS], table[:, T_FAULTS].astype(np.uint8)
    has_none = table[:, T_FORM] == NO_IDENT
    flags = np.where(kinds & 1, int(Flag.FD), 0) | np.where(kinds & 2, int(Flag.BRS), 0)
    flags |= np.where(kinds & 4, int(Flag.ESI), 0) | np.where(kinds & 8, int(Flag.REMOTE), 0)
    flags = np.where((kinds & CUT != 0) | has_none, int(Flag.ERROR), flags)
    form = np.where(has_none, NO_IDENT, np.where(table[:, T_FORM] == 1, int(Form.EXTENDED), int(Form.BASE)))
    offsets = np.zeros(n + 1, np.int64)
    np.cumsum(table[:, T_LENGTH], out=offsets[1:])
    return CanSent(
        table[:, T_START].copy(), table[:, T_END].copy(), form.astype(np.uint8), table[:, T_IDENT].astype(np.uint64),
        flags.astype(np.uint16), table[:, T_DLC].astype(np.uint8), faults, table[:, T_ISO].astype(np.uint8), offsets,
        data.copy(),
    )  # fmt: skip


def bits_of(logic: Logic, start: int, rates: CanRates) -> Any:
    """The bits of the frame that begins at ``start``: begin in ns, level, field's number (`FIELDS`); shape (n, 3)."""
    return read_again(logic, start, rates)[0]


def read_again(logic: Logic, start: int, rates: CanRates) -> tuple[Any, int]:
    """The frame that begins at ``start``, bit by bit.

    Returns:
        Begin in ns, level and field's number (`FIELDS`) of each bit, shape (n, 3); and what is wrong with the frame.
    """
    part = next((one for one in logic.stretches() if one.start <= start < one.end), None)
    edges = np.ascontiguousarray(part.edges) if part is not None else np.zeros(0, np.int64)
    k = int(np.searchsorted(edges, start))
    if part is None or k >= len(edges) or edges[k] != start:
        return np.zeros((0, 3), np.int64), 0
    bits, out = np.zeros((MOST_BITS, 3), np.int64), np.zeros(OUT, np.int64)
    fast = 1e9 / rates.fast if rates.fast else 0.0
    _, count = read_frame(
        edges, part.first, part.end, k, 1e9 / rates.slow, fast, rates.turn_ns, rates.usual, out,
        np.zeros(128, np.uint8), 0, bits,
    )  # fmt: skip
    return bits[: abs(int(count))], int(out[FAULTS])
