"""The ASCII lines of serial CAN adapters, as the kernel's serial-line CAN driver takes them.

``t1A02BEEF`` is a data frame with an 11-bit identifier: identifier, length, payload, and at choice four digits of time
in ms; ``T`` has 29 bits, ``r`` and ``R`` are remote requests. Lines end with CR; a bell refuses a command. Of itself an
adapter says ``e`` (faults it saw), ``s`` (how its error counters stand) and ``F`` (status flags, when asked).

Source: the Linux kernel, drivers/net/can/slcan (comments on the protocol).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit

from keel.lines.can import with_wire_bits
from keel.model.faults import Fault
from keel.model.frames import Bytes, Flag, FrameBatch
from keel.model.identity import NO_IDENT, Form

CR, BELL = 13, 7
WRAP_MS = 60_000
"""Times count up to here, and begin anew."""
RATES = (10_000, 20_000, 50_000, 100_000, 125_000, 250_000, 500_000, 800_000, 1_000_000)
"""Bit rates by the digit of the command that sets one."""
SAW = {
    "a": Fault.ACK, "b": Fault.BIT, "B": Fault.BIT, "c": Fault.CRC, "f": Fault.FORM, "s": Fault.STUFF,
}  # fmt: skip
"""Letters of an ``e`` line; ``o`` and ``O`` say that frames were lost."""
STANDS = {"w": Fault.WARNING, "p": Fault.PASSIVE, "b": Fault.BUS_OFF, "f": Fault.BUS_OFF}
FLAGS = {0x04: Fault.WARNING, 0x20: Fault.PASSIVE, 0x40: Fault.ARBITRATION, 0x80: Fault.OTHER}
"""Bits of the status flags that are about the bus."""
OVERRUN = 0x01 | 0x08
"""Those that say that frames were lost."""

_REMOTE, _BASE, _EXTENDED = int(Flag.REMOTE), int(Form.BASE), int(Form.EXTENDED)


@dataclass(frozen=True, eq=False)
class Parsed:
    """What stood in some bytes.

    Attributes:
        frames: Columns of the frames; their times are those of the adapter in ms, -1 where it gave none.
        others: All other lines.
        bells: How many commands were refused.
        wrong: How many lines began like frames and are none.
        used: How many bytes the whole lines took.
    """

    frames: FrameBatch
    others: list[str]
    bells: int
    wrong: int
    used: int


@njit(cache=True, nogil=True)
def _hex(byte: Any) -> Any:
    if 48 <= byte <= 57:
        return byte - 48
    byte |= 32
    return byte - 87 if 97 <= byte <= 102 else -1


@njit(cache=True, nogil=True)
def _number(data: Any, at: Any, digits: Any) -> Any:
    value = np.int64(0)
    for k in range(digits):
        digit = _hex(np.int64(data[at + k]))
        if digit < 0:
            return np.int64(-1)
        value = value << 4 | digit
    return value


@njit(cache=True, nogil=True)
def _frame(data: Any, at: Any, end: Any, n: Any, used: Any, out: Any, payload: Any) -> Any:
    """Take the line as frame ``n``; returns its payload's length, or -1 if it is none."""
    form, ident, flags, dlc, time = out
    kind = data[at]
    extended = kind == 84 or kind == 82
    remote = kind == 114 or kind == 82
    digits = 8 if extended else 3
    if end - at < 2 + digits:
        return -1
    number = _number(data, at + 1, digits)
    length = np.int64(data[at + 1 + digits]) - 48
    if number < 0 or number > (0x1FFFFFFF if extended else 0x7FF) or length < 0 or length > 8:
        return -1
    begin = at + 2 + digits
    took = 0 if remote else length
    left = end - begin - 2 * took
    if left != 0 and left != 4:
        return -1
    for k in range(took):
        byte = _number(data, begin + 2 * k, 2)
        if byte < 0:
            return -1
        payload[used + k] = byte
    stamp = np.int64(-1)
    if left == 4:
        stamp = _number(data, begin + 2 * took, 4)
        if stamp < 0 or stamp >= 60_000:
            return -1
    form[n] = _EXTENDED if extended else _BASE
    ident[n], dlc[n], time[n] = number, length, stamp
    flags[n] = _REMOTE if remote else 0
    return took


@njit(cache=True, nogil=True)
def _lines(data: Any, out: Any, lengths: Any, payload: Any, others: Any) -> Any:
    """Take all whole lines: frames, other lines, bells, wrong lines, bytes of payloads, bytes used."""
    n = rest = bells = wrong = used = start = 0
    for at in range(len(data)):
        byte = data[at]
        if byte != 13 and byte != 7:
            continue
        if byte == 7:
            bells += 1
        elif at > start:
            kind = data[start]
            if kind == 116 or kind == 84 or kind == 114 or kind == 82:
                took = _frame(data, start, at, n, used, out, payload)
                if took < 0:
                    wrong += 1
                else:
                    lengths[n] = took
                    used += took
                    n += 1
            else:
                others[rest, 0], others[rest, 1] = start, at
                rest += 1
        start = at + 1
    return n, rest, bells, wrong, used, start


def parse_lines(data: bytes) -> Parsed:
    """What stands in some bytes; a line that is not whole is left."""
    buffer: Bytes = np.frombuffer(data, np.uint8)
    room = len(buffer) // 5 + 1
    form, flags, dlc = np.zeros(room, np.uint8), np.zeros(room, np.uint16), np.zeros(room, np.uint8)
    ident, time = np.zeros(room, np.uint64), np.zeros(room, np.int64)
    lengths, payload = np.zeros(room, np.int64), np.zeros(len(buffer) // 2 + 8, np.uint8)
    others = np.zeros((len(buffer) // 2 + 1, 2), np.int64)
    n, rest, bells, wrong, used, end = _lines(buffer, (form, ident, flags, dlc, time), lengths, payload, others)
    offsets = np.zeros(n + 1, np.int64)
    np.cumsum(lengths[:n], out=offsets[1:])
    zeros, none = np.zeros(n, np.uint8), np.zeros(n, np.uint32)
    batch = FrameBatch(
        time[:n], zeros, form[:n], ident[:n], flags[:n], none.copy(), dlc[:n], none.copy(), np.zeros(n, np.uint16),
        offsets, payload[:used],
    )  # fmt: skip
    said = [data[low:high].decode("ascii", "replace") for low, high in others[:rest].tolist()]
    return Parsed(with_wire_bits(batch), said, bells, wrong, end)


def faults_of(line: str) -> tuple[int, bool]:
    """The faults that a line of the adapter about itself tells, and whether it says that frames were lost."""
    faults, lost = 0, False
    if line.startswith("e"):
        for letter in line[2:]:
            faults |= int(SAW.get(letter, 0))
            lost |= letter == "o"
    elif line.startswith("s"):
        faults |= int(STANDS.get(line[1:2], 0))
    elif line.startswith("F") and len(line) == 3:
        try:
            bits = int(line[1:], 16)
        except ValueError:
            return 0, False
        for bit, fault in FLAGS.items():
            faults |= int(fault) if bits & bit else 0
        lost = bool(bits & OVERRUN)
    return faults, lost


def frame_line(batch: FrameBatch, row: int, stamp_ms: int | None = None) -> bytes:
    """A frame as an adapter says it."""
    form, ident, flags = int(batch.form[row]), int(batch.ident[row]), int(batch.flags[row])
    if form == NO_IDENT:
        raise ValueError("frames without an identifier have no line")
    extended, remote = form == Form.EXTENDED, bool(flags & Flag.REMOTE)
    letter = ("R" if extended else "r") if remote else ("T" if extended else "t")
    length = min(int(batch.dlc[row]), 8)
    data = "" if remote else batch.payload(row)[:8].hex().upper()
    stamp = "" if stamp_ms is None else f"{stamp_ms % WRAP_MS:04X}"
    return f"{letter}{ident:0{8 if extended else 3}X}{length}{data}{stamp}\r".encode("ascii")
