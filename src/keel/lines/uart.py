"""Serial lines (UART, RS-232): a start bit, data bits, at choice a parity bit, one or more stop bits.

The line rests high; a byte begins with the falling edge of its start bit and is sampled in the middle of its bits from
there on, so that clocks may differ by some per cent.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
from numba import njit

from keel.lines.evidence import Evidence, certainty, different, of_an_edge
from keel.lines.pulses import head
from keel.lines.serial_clock import SerialClock
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
    """One way to read a line: how, what came, what speaks for it."""

    how: Serial
    sent: Sent
    evidence: Evidence

    @property
    def faulty(self) -> float:
        """The share of bytes with a fault."""
        return 1.0 - float(self.sent.good.mean()) if len(self.sent) else 1.0


USUAL = (
    50, 110, 300, 600, 1_200, 2_400, 4_800, 9_600, 14_400, 19_200, 28_800, 38_400, 57_600, 115_200, 230_400, 460_800,
    921_600, 1_000_000, 2_000_000, 3_000_000,
)  # fmt: skip
"""Rates that serial lines usually have, before those of other lines."""
WAYS: dict[tuple[int, Parity], float] = {
    (8, "none"): 0.0, (8, "even"): 2.0, (8, "odd"): 2.0, (7, "even"): 5.0, (7, "odd"): 5.0, (9, "none"): 4.0,
    (7, "none"): 4.0, (6, "none"): 6.0, (5, "none"): 6.0,
}  # fmt: skip
"""Data bits and parity, and what choosing them costs in bits: the less usual, the more. Parity bits that never change
are not among them: a bit that never changes tells nothing."""
LOOKED_AT_EDGES, READ_IN_WHOLE = 60_000, 3
PLAIN, MOSTLY = (*range(32, 127), 9, 10, 13), 0.9
"""Bytes of text, and the share of them that makes a text."""


def readings(logic: Logic, clock: SerialClock) -> list[Reading]:
    """The ways to read a line, that for which most speaks first.

    A long line is read in every way at its begin, and in whole in those for which most speaks there.

    Args:
        logic: The line, resting high, without what is too short to be a bit.
        clock: How long its bits take.
    """
    sample = head(logic, LOOKED_AT_EDGES)
    best = _ranked([reading(sample, Serial(clock.rate, *way), clock) for way in WAYS])
    if sample is not logic:
        best = _ranked([reading(logic, one.how, clock) for one in best[:READ_IN_WHOLE]])
    first = best[0]
    return [replace(first, how=replace(first.how, stop=_stop_bits(first))), *best[1:]]


def reading(logic: Logic, how: Serial, clock: SerialClock) -> Reading:
    """A line read in one way."""
    sent = decode(logic, how)
    return Reading(how, sent, evidence_of(logic, sent, how, clock))


def _ranked(found: list[Reading]) -> list[Reading]:
    return sorted(found, key=lambda one: -one.evidence.bits)


def evidence_of(logic: Logic, sent: Sent, how: Serial, clock: SerialClock) -> Evidence:
    """What speaks for bytes: stop bits, parity bits, starts right behind a stop bit, edges on the grid.

    Bytes of one pulse prove nothing: pulses of any length and period are such bytes.
    """
    settings = WAYS.get((how.bits, how.parity), 0.0)
    if not len(sent):
        return Evidence(0.0, settings)
    is_break = (sent.faults & BREAK) != 0
    told = ~is_break & (_falls_inside(logic, sent) > 1)
    if not told.any():
        return Evidence(0.0, settings)
    values = sent.values[told]
    count = different(values)
    # A break is an exception from what bytes are, as is a missing stop bit.
    framed = certainty(float((sent.faults & (FRAMING | BREAK) != 0).mean()))
    foretold = count * framed
    if how.parity != "none":
        wrong = float((sent.faults[told] & PARITY != 0).mean())
        foretold += count * framed * certainty(wrong, _odd_share(values))
        # Each wrong one is an exception: a parity bit that is wrong as often as not is none.
        settings += count * wrong if wrong > NO_PARITY else 0.0
    foretold += _following(sent, how, told) * framed
    # Few different bytes have few different pulses, whatever the bit time is.
    foretold += min(max(clock.widths - 1, 0), count) * of_an_edge(clock.spread) * framed
    if how.bits in (7, 8) and _is_text(values):
        foretold += count * A_LETTER
    # Of all rates only few are usual ones.
    near = min(USUAL, key=lambda one: abs(how.rate / one - 1))
    foretold += min(A_USUAL_RATE, count) * framed if abs(how.rate / near - 1) < NEAR_USUAL else 0.0
    return Evidence(foretold, settings + _freedom(values, how))


def _odd_share(values: Any) -> float:
    """The share of different values that have an odd number of ones."""
    kinds = np.unique(values)
    odd = [int(value).bit_count() & 1 for value in kinds.tolist()]
    return sum(odd) / len(odd)


A_LETTER = 0.385
"""What a byte of text foretells, in bits: that it is one of 98 signs of 128. That its highest bit never changes tells
nothing."""
NO_NINTH = 12.0
NO_PARITY = 0.25
"""A bit that is wrong in such a share of bytes is no parity bit."""
A_USUAL_RATE, NEAR_USUAL = 3.0, 0.025
"""What a rate tells, in bits, that is so near to a usual one: all of them cover about an eighth of all rates."""
AT_ONCE, MORE_STOP_BITS = 0.15, (0.0, 1.0)
"""In bits: a byte that begins so near to the end of the one before follows at once; or behind one stop bit more, for
all bytes of a line alike."""


def _following(sent: Sent, how: Serial, told: Any) -> int:
    """How many different bytes begin where one that follows at once has to."""
    if len(sent) < 2:
        return 0
    gaps = (sent.starts[1:] - sent.ends[:-1]) / how.bit_ns
    counts = [different(sent.values[1:][(np.abs(gaps - more) < AT_ONCE) & told[1:]]) for more in MORE_STOP_BITS]
    return max(counts)


def _freedom(values: Any, how: Serial) -> float:
    """What a reading leaves open that another one would have told: what is to be held against it, in bits."""
    if how.bits == 9 and (values >> 8 == 1).all():
        # A ninth bit that is always set is a stop bit, which whoever takes it for one foretells in each byte.
        return NO_NINTH + different(values)
    if how.bits == 8 and how.parity == "none" and (values >> 7 == 1).all() and _is_text(values & 0x7F):
        # Seven bits, and the line at rest behind them.
        return WAYS[7, "none"] + 1.0
    return 0.0


def _is_text(values: Any) -> bool:
    """Whether bytes are text."""
    return different(values) >= 8 and float(np.isin(values, PLAIN).mean()) > MOSTLY


def _falls_inside(logic: Logic, sent: Sent) -> Any:
    """How many falling edges each byte has, its start included; shape (n,)."""
    falls = logic.edges[int(logic.first == 0) :: 2]
    begins = np.searchsorted(falls, sent.starts, side="left")
    return np.searchsorted(falls, sent.ends, side="left") - begins


def _stop_bits(found: Reading) -> float:
    """One stop bit, but more where bytes that follow at once all come just as much later."""
    sent, how = found.sent, found.how
    if len(sent) < 8:
        return 1.0
    apart = np.diff(sent.starts) / how.bit_ns - (how.length - how.stop)
    close = apart[apart < 3]
    for stop in (2.0, 1.5):
        here = np.abs(close - stop) < AT_ONCE
        if here.sum() >= 6 and here.mean() > 0.5 and not (close < stop - 2 * AT_ONCE).any():
            return stop
    return 1.0
