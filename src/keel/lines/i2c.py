"""I2C: a clock and data; data changes while the clock is low, but to begin and to end a transfer.

Source: I2C-bus specification UM10204, revision 7, 3.1.4 (start, stop), 3.1.5 (bytes), 3.1.6 (acknowledge), 3.1.9
(clock stretching), 3.1.10 (addresses), 3.1.11 (10-bit addresses).
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from keel.lines.clocked import (
    ClockedCode,
    Wires,
    clocked_share,
    frequency,
    known_stretches,
    over,
    periods,
    wire,
)
from keel.lines.code import Asked, Field, Guess, How
from keel.lines.evidence import Evidence, certainty, different_frames
from keel.lines.framing import frames_of
from keel.media.i2c import READ, READ_10, WRITE, WRITE_10
from keel.model.bus import Bus
from keel.model.faults import Fault
from keel.model.frames import Flag, FrameBatch, concat
from keel.model.waveform import Logic

STRETCHED, LONGEST_HOLD = 3.0, 400
"""A clock that is low for so many halves of a period is held low; for so many more it is a pause."""
TEN_BITS = 0b11110
BEGIN, END, FIRST, COUNT, STOPPED = range(5)
"""Columns of a transfer: its begin and end in ns, its first bit and how many there are, whether a stop ends it."""


@njit(cache=True, nogil=True)
def read_transfers(clock: Any, clock_first: Any, data: Any, data_first: Any, out: Any, bits: Any, rises: Any) -> Any:
    """Read the transfers of a bus, those that are begun and ended.

    Args:
        clock, clock_first, data, data_first: Edges in ns, and the levels before the first one.
        out: Filled with columns as `BEGIN` and its like say, shape (n, 5).
        bits, rises: Filled with bits and when the clock rose for each, shape (m,).

    Returns:
        How many transfers, and how many bits.
    """
    n = used = i = j = 0
    high, level = clock_first == 1, data_first
    inside, pending = False, False
    while i < len(clock) or j < len(data):
        # Where both change at once data changes while the clock is low.
        is_clock = j >= len(data) or (i < len(clock) and (clock[i] < data[j] or (clock[i] == data[j] and high)))
        if is_clock:
            high = not high
            if inside:
                if high:
                    bits[used], rises[used] = level, clock[i]
                    used += 1
                pending = high
            i += 1
            continue
        level = 1 - level
        if high:
            now = data[j]
            if inside:
                # The clock rose for this, and not for a bit.
                used -= pending
                out[n, END], out[n, COUNT], out[n, STOPPED] = now, used - out[n, FIRST], level
                n += 1
                inside = False
            if level == 0:
                out[n, BEGIN], out[n, FIRST] = now, used
                inside = True
            pending = False
        j += 1
    return n, used


def _read(clock: Logic, data: Logic) -> tuple[Any, Any, Any]:
    """Transfers, bits and their times, of a known stretch."""
    out = np.zeros((len(data.edges) + 1, 5), np.int64)
    bits, rises = np.zeros(len(clock.edges) // 2 + 2, np.uint8), np.zeros(len(clock.edges) // 2 + 2, np.int64)
    clocks, changes = np.ascontiguousarray(clock.edges), np.ascontiguousarray(data.edges)
    n, used = read_transfers(clocks, clock.first, changes, data.first, out, bits, rises)
    return out[:n], bits[:used], rises[:used]


def _frames(table: Any, bits: Any) -> FrameBatch:
    table = table[table[:, COUNT] > 0]
    whole = table[:, COUNT] // 9
    padded = np.concatenate([bits, np.ones(32, np.uint8)])
    first = table[:, FIRST]

    def byte_at(number: int) -> Any:
        picked = padded[np.minimum(first[:, None] + 9 * number + np.arange(9), len(padded) - 1)]
        return np.packbits(picked[:, :8], axis=1)[:, 0].astype(np.int64), picked[:, 8]

    (one, no_answer), (two, no_second) = byte_at(0), byte_at(1)
    is_read = (one & 1).astype(bool)
    is_ten = (one >> 3 == TEN_BITS) & (is_read | (whole >= 2))
    ident = np.where(is_ten, (one >> 1 & 3) << 8 | two, one >> 1)
    ident = _read_again(ident, is_ten & is_read, one)
    ahead = np.where(is_ten & ~is_read, 2, 1)
    faults = np.zeros(len(table), np.uint32)
    refused = (no_answer == 1) | (is_ten & ~is_read & (no_second == 1))
    faults[(whole > 0) & refused] |= int(Fault.ACK)
    faults[table[:, COUNT] % 9 != 0] |= int(Fault.LENGTH)
    sizes = np.maximum(whole - ahead, 0)
    offsets = np.concatenate([[0], np.cumsum(sizes)])
    which = np.repeat(np.arange(len(table)), sizes)
    place = np.arange(offsets[-1]) - offsets[which] + ahead[which]
    at = first[which] + 9 * place
    data = np.packbits(padded[at[:, None] + np.arange(8)], axis=1)[:, 0] if len(at) else np.zeros(0, np.uint8)
    form = np.where(
        is_read, np.where(is_ten, READ_10.number, READ.number), np.where(is_ten, WRITE_10.number, WRITE.number)
    )
    ident = np.where(whole > 0, ident, 0)
    return frames_of(
        table[:, BEGIN].copy(), table[:, END], form, ident, offsets, data, faults,
        np.where(is_read, 0, int(Flag.TX)),
    )  # fmt: skip


def _read_again(ident: Any, is_read: Any, first: Any) -> Any:
    """10-bit addresses of reads: they repeat the upper two bits alone, of the device that was written to before."""
    last: dict[int, int] = {}
    ident = ident.copy()
    if is_read.any():
        tens = np.flatnonzero((first >> 3 == TEN_BITS) | is_read)
        for row in tens.tolist():
            upper = int(first[row]) >> 1 & 3
            if is_read[row]:
                ident[row] = last.get(upper, upper << 8)
            else:
                last[upper] = int(ident[row])
    return ident


def read(wires: Wires, asked: Asked) -> list[Guess]:
    """A bus read as I2C."""
    clock, data = wire(wires, "clock"), wire(wires, "data")
    if clock is None or data is None or not len(clock.edges):
        return []
    parts = []
    for part in known_stretches(wires):
        c, d = wire(part, "clock"), wire(part, "data")
        assert c is not None and d is not None
        table, bits, _ = _read(c, d)
        parts.append(_frames(table, bits))
    frames = concat([one for one in parts if len(one)]) if any(len(one) for one in parts) else None
    if frames is None:
        return []
    rate = frequency(clock)
    if not rate:
        return []
    good = frames.faults == 0
    assert frames.duration is not None
    ends = frames.time + frames.duration
    whole = frames.faults & np.uint32(Fault.LENGTH) == 0
    share = clocked_share(clock, frames.time[good], ends[good])
    # Nobody answering explains a transfer, too.
    right = different_frames(frames.take(np.flatnonzero(whole)))
    sizes = float(frames.lengths[whole].mean()) + 1 if whole.any() else 0.0
    each = A_TRANSFER + 8 * sizes * A_BIT
    evidence = Evidence(right * each * certainty(1 - float(whole.mean())), 4.0)
    faulty = int((~good).sum())
    said = _stretching(clock, rate)
    bus = Bus("", round(asked.rate or rate), medium="i2c", stamp="start", assumed=False)
    return [Guess("i2c", rate, None, False, {}, frames, bus, share, evidence, "", faulty, said, {"rate": rate})]


A_TRANSFER, A_BIT = 8.0, 0.5
"""Bits that a transfer foretells: that it begins and ends with data changing while the clock is high, and has a
multiple of nine bits; and each of its bits, in which data rests while the clock is high."""


def _stretching(clock: Logic, rate: float) -> tuple[str, ...]:
    """What is to be said of a clock that is held low."""
    half = 5e8 / rate
    falls = clock.edges[int(clock.first == 0) :]
    low = np.diff(falls)[0::2].astype(np.float64)
    held = low[(low > STRETCHED * half) & (low < LONGEST_HOLD * half)]
    if not len(held) or len(periods(clock)) < len(low) // 3:
        return ()
    return (f"the clock is held low {len(held):,} times, up to {held.max() / 1e3:.3g} µs: stretched, or a pause",)


def explain(wires: Wires, how: How, start: int, end: int, form: int) -> list[Field]:
    """Start, address, direction and acknowledgement, each byte with its own, stop."""
    half = round(5e8 / how.numbers["rate"])
    part = over(wires, start - half, end + half)
    clock, data = wire(part, "clock"), wire(part, "data")
    assert clock is not None and data is not None
    table, bits, rises = _read(clock, data)
    rows = table[table[:, BEGIN] == start]
    if not len(rows):
        return []
    row = rows[0].tolist()
    mine = bits[row[FIRST] : row[FIRST] + row[COUNT]].tolist()
    at = [*rises[row[FIRST] : row[FIRST] + row[COUNT]].tolist(), end]
    # A bit begins where the clock fell before it.
    falls = clock.edges[int(clock.first == 0) :: 2]
    begins = [int(falls[max(int(np.searchsorted(falls, time)) - 1, 0)]) for time in at]
    begins = [max(begin, start) for begin in begins]
    last = int(falls[max(int(np.searchsorted(falls, end)) - 1, 0)])
    fields = [Field("start", start, begins[0])] if begins[0] > start else []
    is_ten = form in (WRITE_10.number, READ_10.number)
    ahead = 2 if form == WRITE_10.number else 1
    for number in range(len(mine) // 9):
        places = range(9 * number, 9 * number + 9)
        value = int("".join(str(mine[k]) for k in places[:8]), 2)
        a, ack = begins[places[0]], begins[places[8]]
        after = begins[places[8] + 1] if places[8] + 1 < len(mine) else max(last, ack + 1)
        refused = mine[places[8]] == 1
        if number == 0:
            word = value >> 1 if not is_ten else (value >> 1 & 3) << 8
            fields.append(Field("address", a, begins[places[7]], word, f"{word:02X}", None, bytes([value])))
            fields.append(Field("rw", begins[places[7]], ack, value & 1, "read" if value & 1 else "write"))
        else:
            name = "address" if number < ahead else "byte"
            fields.append(Field(name, a, ack, value, f"{value:02X}", None, bytes([value])))
        wrong = Fault.ACK.word if refused and number < ahead else None
        fields.append(Field("ack", ack, after, int(refused), "no" if refused else "yes", wrong))
    rest = len(mine) % 9
    if rest:
        text = "".join(map(str, mine[-rest:]))
        fields.append(Field("bits", begins[len(mine) - rest], max(last, begins[len(mine) - 1] + 1), None, text,
                            Fault.LENGTH.word))  # fmt: skip
    if row[STOPPED]:
        fields.append(Field("stop", min(last, end), end))
    return fields


I2C = ClockedCode(
    "i2c",
    "I2C",
    ("clock", "data"),
    {"clock": ("scl", "clock", "clk", "sck"), "data": ("sda", "data", "dat")},
    {"data": None},
    read,
    explain,
    lambda _: 1,
)
