"""Serial lines (UART, RS-232): a start bit, data bits, at choice a parity bit, one or more stop bits.

The line rests high; a byte begins with the falling edge of its start bit and is sampled in the middle of its bits from
there on, so that clocks may differ by some per cent.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
from numba import njit

from keel.lines.pulses import head
from keel.model.faults import Fault
from keel.model.frames import Times
from keel.model.waveform import Logic

Parity = Literal["none", "odd", "even", "mark", "space"]
Order = Literal["lsb", "msb"]
PARITIES: tuple[Parity, ...] = ("none", "odd", "even", "mark", "space")
FRAMING, PARITY, BREAK = 1, 2, 4
FAULTS = {FRAMING: Fault.FRAMING, PARITY: Fault.PARITY, BREAK: Fault.BREAK}


@dataclass(frozen=True)
class Serial:
    """How bytes are sent."""

    rate: float
    bits: int = 8
    parity: Parity = "none"
    stop: float = 1.0
    order: Order = "lsb"

    @property
    def bit_ns(self) -> float:
        """How long a bit takes."""
        return 1e9 / self.rate

    @property
    def words(self) -> str:
        """As ``8N1``."""
        return f"{self.bits}{self.parity[0].upper()}{self.stop:g}"

    @property
    def length(self) -> float:
        """Bits of a byte, all included."""
        return 1 + self.bits + (self.parity != "none") + self.stop


@dataclass(frozen=True, eq=False)
class Sent:
    """Bytes on a line: when each began and ended, in ns, its value, its faults as bits; all shape (n,)."""

    starts: Times
    ends: Times
    values: Any
    faults: Any

    def __len__(self) -> int:
        return len(self.starts)

    @property
    def good(self) -> Any:
        """Which came without a fault."""
        return self.faults == 0


@njit(cache=True, nogil=True)
def _decode(edges: Any, first: Any, end: Any, bit: Any, bits: Any, parity: Any, stop: Any, msb: Any, out: Any) -> Any:
    """Bytes of a line that rests high; returns how many."""
    starts, ends, values, faults = out
    n = 0
    count = len(edges)
    i = 0
    # The level behind edge k is ``first ^ (k + 1) & 1``.
    while i < count:
        if (first ^ (i + 1)) & 1:
            i += 1
            continue
        begin = edges[i]
        j = i
        checks = 1 if parity > 0 else 0
        if begin + (1 + bits + checks + 0.5) * bit > end:
            # Cut by the end of what was recorded.
            break
        # The start bit in its middle.
        at = begin + 0.5 * bit
        while j + 1 < count and edges[j + 1] <= at:
            j += 1
        if (first ^ (j + 1)) & 1:
            i = j + 1
            continue
        value = 0
        ones = 0
        for k in range(bits):
            at = begin + (1.5 + k) * bit
            while j + 1 < count and edges[j + 1] <= at:
                j += 1
            level = (first ^ (j + 1)) & 1
            ones += level
            value |= level << (bits - 1 - k if msb else k)
        fault = 0
        if checks:
            at = begin + (1.5 + bits) * bit
            while j + 1 < count and edges[j + 1] <= at:
                j += 1
            level = (first ^ (j + 1)) & 1
            wanted = level
            if parity == 1:
                wanted = 1 - (ones & 1)
            elif parity == 2:
                wanted = ones & 1
            elif parity == 3:
                wanted = 1
            elif parity == 4:
                wanted = 0
            if level != wanted:
                fault |= 2
            ones += level
        at = begin + (1.5 + bits + checks) * bit
        while j + 1 < count and edges[j + 1] <= at:
            j += 1
        finish = begin + np.int64(np.rint((1 + bits + checks + stop) * bit))
        if not (first ^ (j + 1)) & 1:
            fault |= 1
            if ones == 0:
                # Low for longer than a byte takes: it lasts until the line rises.
                fault = 4
                finish = edges[j + 1] if j + 1 < count else end
        starts[n], ends[n], values[n], faults[n] = begin, finish, value, fault
        n += 1
        i = j + 1
    return n


def decode(logic: Logic, how: Serial) -> Sent:
    """The bytes on a line that rests high.

    What a recording's begin cut is left out as far as it is wrong: bytes up to the first pause that is as long as a
    byte are kept where all of them are right.
    """
    parts = [_of_stretch(part, how) for part in logic.stretches()]
    if not parts:
        none = np.zeros(0, np.int64)
        return Sent(none, none, none.astype(np.uint16), none.astype(np.uint8))
    return Sent(
        *(np.concatenate([getattr(part, name) for part in parts]) for name in ("starts", "ends", "values", "faults"))
    )


def _of_stretch(part: Logic, how: Serial) -> Sent:
    room = len(part.edges) + 1
    out: Any = (np.empty(room, np.int64), np.empty(room, np.int64), np.empty(room, np.uint16), np.empty(room, np.uint8))
    code = PARITIES.index(how.parity)
    edges = np.ascontiguousarray(part.edges)
    pause = (how.length + 0.5) * how.bit_ns
    found = _run(edges, part.first, part.end, how, code, out)
    if not len(found) or (len(edges) and edges[0] - part.start >= pause and part.first):
        return found
    # The recording may have begun within a byte: what comes before the first pause counts only if all of it is right.
    gaps = np.flatnonzero(np.diff(edges) >= pause)
    until = int(edges[gaps[0]]) if len(gaps) else part.end
    head = found.starts <= until
    if found.good[head].all() or not len(gaps):
        return found
    skip = int(gaps[0]) + 1
    return _run(edges[skip:], part.first ^ skip & 1, part.end, how, code, out)


def _run(edges: Any, first: int, end: int, how: Serial, code: int, out: Any) -> Sent:
    n = _decode(edges, first, end, how.bit_ns, how.bits, code, how.stop, how.order == "msb", out)
    return Sent(*(column[:n].copy() for column in out))


@dataclass(frozen=True)
class Reading:
    """One way to read a line: how, what came, how good it is."""

    how: Serial
    sent: Sent

    @property
    def faulty(self) -> float:
        """The share of bytes with a fault."""
        return 1.0 - float(self.sent.good.mean()) if len(self.sent) else 1.0


WAYS: tuple[tuple[int, Parity], ...] = (
    (8, "none"), (7, "even"), (7, "odd"), (8, "even"), (8, "odd"), (9, "none"), (7, "none"), (6, "none"), (5, "none"),
)  # fmt: skip
"""Data bits and parity, the most usual first."""
LOOKED_AT_EDGES, READ_IN_WHOLE = 60_000, 3
ENOUGH = 12
"""So many bytes with the right parity are no chance."""


def readings(logic: Logic, rate: float) -> list[Reading]:
    """The ways to read a line at a rate, the best first. Those that are as good as the best are all that is known.

    A long line is read in every way at its begin, and in whole in those that fit best there.
    """
    sample = head(logic, LOOKED_AT_EDGES)
    best = _ranked([Reading(way, decode(sample, way)) for way in (Serial(rate, *way) for way in WAYS)])
    if sample is not logic:
        best = _ranked([Reading(one.how, decode(logic, one.how)) for one in best[:READ_IN_WHOLE]])
    return [replace(best[0], how=replace(best[0].how, stop=_stop_bits(best[0]))), *best[1:]]


def _ranked(found: list[Reading]) -> list[Reading]:
    return sorted(found, key=lambda one: (round(one.faulty, 3), _unlikely(one)))


def _unlikely(reading: Reading) -> int:
    """How little is to be said for it beside others without a fault."""
    how, sent = reading.how, reading.sent
    if how.parity != "none" and how.bits == 7:
        # Seven bits and parity read as eight are right, too: they are text with a bit that follows from the others.
        plain = ((sent.values >= 32) & (sent.values < 127)) | np.isin(sent.values, (9, 10, 13))
        ones = np.array([int(value).bit_count() for value in np.flatnonzero(np.bincount(sent.values))])
        return -1 if len(sent) >= ENOUGH and plain.mean() > 0.9 and len(set((ones & 1).tolist())) > 1 else 3
    if how.bits < 8 or how.bits == 9:
        return 2
    return 0 if how.parity == "none" else 1


def _stop_bits(reading: Reading) -> float:
    """One stop bit, but two where bytes that follow at once always come a bit later."""
    sent, how = reading.sent, reading.how
    if len(sent) < 8:
        return 1.0
    apart = np.diff(sent.starts) / how.bit_ns - (how.length - how.stop)
    close = apart[apart < 4]
    if len(close) < 6:
        return 1.0
    least = float(np.percentile(close, 5))
    return 2.0 if least > 1.75 else 1.5 if least > 1.3 else 1.0
