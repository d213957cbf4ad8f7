"""What the lines aboard do electrically: frames as levels over time, levels as volts on wires.

Source: ISO 11898-1:2015, 10.4 (formats), 10.5 (stuffing), 10.4.2.6 (CRC, stuff count); ISO 11898-2:2016, 5.3 (levels
of the two wires); EIA/TIA-232-F (serial lines).
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

from keel.model.faults import Fault
from keel.model.frames import FD_LENGTHS, Flag, FrameBatch, Times
from keel.model.identity import Form
from keel.model.waveform import Logic

Floats = npt.NDArray[np.float64]
RING_LASTS = 4.0
"""Ringing dies away in so many rise times."""
SWITCH = 0.8
"""Where in BRS and in the CRC delimiter the bit rate changes."""
ERROR_FRAME = np.array([0] * 6 + [1] * 8, np.uint8)
"""Error flag and delimiter. Of a frame that noise destroyed at its begin nothing else is seen."""
Bits = list[int]


def _number(value: int, width: int) -> Bits:
    return [value >> (width - 1 - k) & 1 for k in range(width)]


def _crc(bits: Sequence[int], width: int, polynomial: int, seed: int = 0) -> int:
    register, mask = seed, (1 << width) - 1
    for bit in bits:
        follows = (register >> (width - 1)) ^ bit
        register = (register << 1 & mask) ^ (polynomial if follows else 0)
    return register


def _stuffed(bits: Sequence[int], at_the_end: bool) -> Bits:
    out: Bits = []
    run, last = 0, 2
    for bit in bits:
        out.append(bit)
        run, last = (run + 1 if bit == last else 1), bit
        if run == 5:
            out.append(1 - bit)
            run, last = 1, 1 - bit
    if not at_the_end and run == 1 and len(out) > 1 and _ends_stuffed(bits):
        out.pop()
    return out


def _ends_stuffed(bits: Sequence[int]) -> bool:
    """Whether the last bit of a field is the fifth that is equal, so that one is stuffed behind it."""
    run, last, ended = 0, 2, False
    for bit in bits:
        run, last, ended = (run + 1 if bit == last else 1), bit, False
        if run == 5:
            run, last, ended = 1, 1 - bit, True
    return ended


def can_frame(ident: int, extended: bool, flags: int, dlc: int, data: bytes, sent: bytes, acknowledged: bool) -> Any:
    """The levels of a frame up to its end, and which of its bits are at the data rate; both shape (n,).

    Args:
        ident, extended, flags, dlc: The frame.
        data: The payload that is on the wire.
        sent: That which its checksum is made of; another one where noise destroyed it.
        acknowledged: Whether anybody acknowledged it.
    """
    is_fd, is_remote = bool(flags & Flag.FD), bool(flags & Flag.REMOTE)
    if extended:
        head = [0, *_number(ident >> 18, 11), 1, 1, *_number(ident & 0x3FFFF, 18), int(is_remote and not is_fd)]
    else:
        head = [0, *_number(ident, 11), int(is_remote and not is_fd), 0]
    tail = [1, int(not acknowledged), 1, *[1] * 7]
    if not is_fd:
        head += [0, 0] if extended else [0]

        def body_of(payload: bytes) -> Bits:
            return head + _number(dlc, 4) + [bit for byte in payload for bit in _number(byte, 8)]

        body = body_of(data) + _number(_crc(body_of(sent), 15, 0x4599), 15)
        bits = _stuffed(body, True) + tail
        return np.array(bits, np.uint8), np.zeros(len(bits), np.bool_)
    has_fast = bool(flags & Flag.BRS)
    head += [1, 0, int(has_fast)]
    rest = [int(bool(flags & Flag.ESI)), *_number(dlc, 4)]

    def stuffed_of(payload: bytes) -> Bits:
        return _stuffed(head + rest + [bit for byte in payload for bit in _number(byte, 8)], False)

    whole = stuffed_of(data)
    count = (len(stuffed_of(sent)) - len(head) - len(rest) - 8 * len(sent)) % 8
    gray = count ^ count >> 1
    counted = [*_number(gray, 3), gray.bit_count() & 1]
    width, polynomial = (17, 0x1685B) if len(data) <= 16 else (21, 0x102899)
    checked = [*stuffed_of(sent), *counted]
    field = [*counted, *_number(_crc(checked, width, polynomial, 1 << (width - 1)), width)]
    fixed: Bits = []
    last = whole[-1]
    for place, bit in enumerate(field):
        if place % 4 == 0:
            fixed.append(1 - last)
        fixed.append(bit)
        last = bit
    bits = whole + fixed + tail
    fast = np.zeros(len(bits), np.bool_)
    if has_fast:
        fast[len(_stuffed(head, False)) : len(whole) + len(fixed)] = True
    return np.array(bits, np.uint8), fast


def can_line(batch: FrameBatch, slow: float, fast: float, start_ns: int, end_ns: int, seed: int = 1) -> Logic:
    """What a controller sees of some frames, high is recessive; their times are when they begin."""
    long, short = 1e9 / slow, 1e9 / fast
    edges: list[Floats] = []
    for row in range(len(batch)):
        faults, flags = int(batch.faults[row]), int(batch.flags[row])
        data = batch.payload(row)
        sent = bytes([data[0] ^ 0x40]) + data[1:] if data and faults & (Fault.CRC | Fault.STUFF) else data
        dlc = FD_LENGTHS.index(len(data)) if flags & Flag.FD else int(batch.dlc[row]) or len(data)
        is_extended = int(batch.form[row]) == Form.EXTENDED
        bits, at_fast = can_frame(int(batch.ident[row]), is_extended, flags, dlc, data, sent, not faults & Fault.ACK)
        if faults & Fault.STUFF:
            bits = ERROR_FRAME
            at_fast = np.zeros(len(bits), np.bool_)
        elif faults & Fault.CRC:
            # Who saw it says so behind the acknowledgement's delimiter.
            bits = np.concatenate([bits[:-7], ERROR_FRAME])
            at_fast = np.concatenate([at_fast[:-7], np.zeros(len(ERROR_FRAME), np.bool_)])
        lengths = np.where(at_fast, short, long)
        for turn in np.flatnonzero(np.diff(at_fast.astype(np.int8))).tolist():
            # BRS begins at one rate and ends at the other, and so does the CRC's delimiter.
            if at_fast[turn]:
                lengths[turn + 1] = SWITCH * short + (1 - SWITCH) * long
            else:
                lengths[turn] = SWITCH * long + (1 - SWITCH) * short
        # From the begin of what is recorded: nanoseconds since 1970 are too many for a float.
        begins = float(int(batch.time[row]) - start_ns) + np.concatenate([[0.0], np.cumsum(lengths)[:-1]])
        changes = np.flatnonzero(np.diff(np.concatenate([[1], bits])))
        found = begins[changes]
        if bits[-1] == 0:
            found = np.append(found, begins[-1] + lengths[-1])
        edges.append(found)
    return _line(edges, end_ns - start_ns, 1, 8.0, seed)


def serial_line(messages: Sequence[tuple[int, bytes]], rate: float, start_ns: int, end_ns: int, seed: int = 1) -> Logic:
    """What bytes do on a line that rests high: each with a start bit, eight data bits, one stop bit.

    Args:
        messages: When each begins in ns, and its bytes.
        rate: In bit/s.
        start_ns, end_ns: What is recorded.
        seed: Of the jitter.
    """
    bit = 1e9 / rate
    edges: list[Floats] = []
    for time, data in messages:
        bits = np.concatenate([[0, *(byte >> k & 1 for k in range(8)), 1] for byte in data]).astype(np.int8)
        changes = np.flatnonzero(np.diff(np.concatenate([[1], bits])))
        edges.append((time - start_ns + changes * bit).astype(np.float64))
    return _line(edges, end_ns - start_ns, 1, 300.0, seed)


def _line(edges: Sequence[Floats], length: int, first: int, jitter_ns: float, seed: int) -> Logic:
    """Edges as a line, each a little early or late; in ns from the begin of what is recorded."""
    whole = np.concatenate(edges) if edges else np.zeros(0)
    random = np.random.default_rng([seed, 17])
    times: Times = np.rint(whole + random.normal(0, jitter_ns / 3, len(whole))).astype(np.int64)
    times = np.maximum.accumulate(times)
    return Logic(0, length, first, times[(times > 0) & (times < length)])


def volts(
    line: Logic, step_ns: float, low: float, high: float, rise_ns: float, noise: float, seed: int, rings: float = 0.0
) -> Any:
    """What an instrument samples of a line: levels as volts, rounded by a resistor and a capacitor, with noise.

    ``rings`` is by what share of the swing they go beyond their level, and come back, for some rise times.

    Returns:
        In volts, shape (n,), float32.
    """
    count = int((line.end - line.start) / step_ns)
    out = np.empty(count, np.float32)
    random = np.random.default_rng([seed, 23])
    edges = line.edges.astype(np.float64)
    for begin in range(0, count, 1 << 20):
        times = line.start + np.arange(begin, min(begin + (1 << 20), count)) * step_ns
        place = np.searchsorted(edges, times, side="right")
        now = (line.first + place) & 1
        since = times - np.where(place > 0, edges[np.maximum(place - 1, 0)] if len(edges) else 0.0, -np.inf)
        share = np.where(np.isfinite(since), np.exp(-np.minimum(since / rise_ns, 50)), 0.0)
        late = np.minimum(since / rise_ns, 50 * RING_LASTS)
        swings = rings * np.exp(-late / RING_LASTS) * np.sin(late)
        level = np.where(now, 1 - share + swings, share - swings)
        out[begin : begin + len(times)] = low + (high - low) * level + random.normal(0, noise, len(times))
    return out
