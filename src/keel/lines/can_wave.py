"""CAN and CAN FD from the levels of a line: all its frames, and the bits each is made of.

Source: ISO 11898-1:2015, 10.4 (formats), 10.9 (when a node may send).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit

from keel.lines.can_reader import ACK, CRC, FORM, MOST_BITS, OVERLOAD, STUFF, read_frame
from keel.model.faults import Fault
from keel.model.frames import Flag, Times
from keel.model.identity import NO_IDENT, Form
from keel.model.waveform import Logic

IDLE_BITS = 10.4
"""So many recessive bits follow every frame and every error, but for the intermission after good ones."""
INTERMISSION, OVERLOAD_FLAG, OVERLOAD_DELIMITER = 2.3, (5.5, 13.5), 8
"""In bits: a frame may begin behind so many; what begins before is an overload flag if it is so long."""
FAULTS = {OVERLOAD: Fault.OVERLOAD, CRC: Fault.CRC, STUFF: Fault.STUFF, FORM: Fault.FORM, ACK: Fault.ACK}
NOT_ISO = 0


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
        if rested and not is_sure and edges[k] < free_from and k + 1 < count:
            flag = edges[k + 1] - edges[k]
            if OVERLOAD_FLAG[0] * slow <= flag <= OVERLOAD_FLAG[1] * slow:
                # Somebody asks for more time: a flag in the intermission, and a delimiter behind it.
                table[n] = 0
                table[n, 0], table[n, 1] = edges[k], edges[k + 1] + np.int64(np.rint(OVERLOAD_DELIMITER * slow))
                table[n, 2], table[n, 6] = 255, OVERLOAD
                free_from = table[n, 1] + INTERMISSION * slow
                n += 1
                k += 2
                continue
        if not (is_sure or (rested and edges[k] >= free_from) or k == 0):
            k += 1
            continue
        out[5] = out[7] = out[8] = 0
        last, bits = read_frame(edges, first, end, k, slow, fast, turn, out, data, used, nothing)
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
    bits, out = np.zeros((MOST_BITS, 3), np.int64), np.zeros(9, np.int64)
    fast = 1e9 / rates.fast if rates.fast else 0.0
    _, count = read_frame(
        edges, part.first, part.end, k, 1e9 / rates.slow, fast, rates.turn_ns, out, np.zeros(128, np.uint8), 0, bits
    )
    return bits[: abs(int(count))], int(out[5])
