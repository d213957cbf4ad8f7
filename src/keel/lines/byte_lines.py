"""What lines that carry the bytes of a serial line have in common: how they rest, and the rate of their bits."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from keel.lines.code import Asked, Field, Guess, How
from keel.lines.evidence import NOTHING, Evidence
from keel.lines.pulses import glitch_free, head, repeats, resting
from keel.lines.serial_clock import GLITCH, LEAST_FITTING, MOST_SPREAD, SerialClock, clock_near, clocks
from keel.lines.timing import Pulses, inside, pulses, taken
from keel.lines.uart import Sent, Serial, decode, evidence_of
from keel.model.waveform import Logic

NEAR = 0.03
"""A clock as it is measured is meant by a rate that is so near: a clock may be off, a person names its rate."""


AGAINST_REST, PASSED_OVER = 3.0, 6.0
"""What it costs, in bits, to read a line as if it rested at the less likely level, and to pass over a kind of short
pulses."""


@dataclass(frozen=True, eq=False)
class ByteLine:
    """A line as its bytes are read.

    Attributes:
        line: Resting high, without spikes.
        clock: How long its bits take.
        inverted: Whether its levels were exchanged.
        measured: Its bits a second as its edges have them, whatever a person said; None where they do not tell.
        is_last_resort: Whether something had to be passed over for it: short pulses, or how the line clearly rests.
        does_repeat: Whether the wire does the same again and again, so that no reading of it proves anything.
        attempt: A number for how it rests and what was passed over: bit times of one number are alternatives.
        against_rest: Whether it is read as if it rested at the less likely level.
        is_sure: Whether the line clearly rests so; else the other way has to be looked at, too.
    """

    line: Logic
    clock: SerialClock
    inverted: bool
    measured: float | None
    is_last_resort: bool = False
    is_sure: bool = True
    against_rest: bool = False
    attempt: int = 0
    does_repeat: bool = False

    def evidence(self, sent: Sent, how: Serial) -> Evidence:
        """What speaks for bytes that were read of it."""
        if self.does_repeat:
            return NOTHING
        against = Evidence(0.0, (AGAINST_REST if self.against_rest else 0.0) + PASSED_OVER * (self.attempt % 10))
        return evidence_of(self.line, sent, how, self.clock) + against

    @property
    def rate(self) -> float:
        """Its bits a second."""
        return self.clock.rate


def byte_lines(logic: Logic, asked: Asked) -> Iterator[ByteLine]:
    """The ways in which a line may carry bytes: how it rests, and how long its bits take; the likelier first."""
    if len(logic.edges) < 2:
        return
    rests, is_sure = resting(logic)
    does_repeat = repeats(logic)
    ways = [rests == 0, rests == 1] if asked.inverted is None else [asked.inverted]
    for number, inverted in enumerate(ways):
        line = logic.inverted if inverted else logic
        if asked.rate is not None:
            yield _at_rate(line, asked.rate, inverted)
            continue
        for clock, clean, spared in clocks(line):
            yield ByteLine(
                clean, clock, inverted, clock.rate, is_last_resort=spared > 0 or (number > 0 and is_sure),
                is_sure=is_sure or len(ways) == 1, against_rest=number > 0, attempt=10 * number + spared,
                does_repeat=does_repeat,
            )  # fmt: skip


CLEARLY = 60.0
"""Where so much speaks for a rate and a polarity no other is looked for."""


def clearest(logic: Logic, asked: Asked, read: Callable[[ByteLine], Guess | None]) -> list[Guess]:
    """The way for which most speaks in which a code of bytes reads a line; none where it reads nothing.

    Args:
        logic: The line.
        asked: What a person said of it.
        read: Reads it in one way.
    """
    found: list[Guess] = []
    for way in byte_lines(logic, asked):
        guess = read(way)
        if guess is None:
            continue
        found.append(guess)
        if way.is_sure and guess.evidence.bits > CLEARLY:
            break
    return sorted(found, key=lambda one: -one.evidence.bits)[:1]


def _at_rate(line: Logic, rate: float, inverted: bool) -> ByteLine:
    """A line as it is read at a rate that was given, or by its own clock near that rate."""
    unit = 1e9 / rate
    near = clock_near(line, unit)
    measured = _measured(line)
    is_near = near is not None and abs(near.rate / rate - 1) < NEAR and near.fits > LEAST_FITTING
    clock = near if near is not None and is_near else SerialClock(unit, MOST_SPREAD, 0.0, 0)
    return ByteLine(glitch_free(line, GLITCH * clock.ns), clock, inverted, measured)


LOOKED_AT = 20_000


def _measured(line: Logic) -> float | None:
    """The rate that most speaks for on a line, whatever a person said of it; None where its edges do not tell."""
    best: tuple[float, float] | None = None
    for clock, clean, _ in clocks(line):
        part, how = head(clean, LOOKED_AT), Serial(clock.rate)
        bits = evidence_of(part, decode(part, how), how, clock).bits
        if best is None or bits > best[0]:
            best = bits, clock.rate
    return best[1] if best is not None else None


def time_bytes(line: Logic, how: How, fields: Sequence[Field]) -> Pulses:
    """Edges against the begin of the start bit of their byte; bits are taken in their middle."""
    said, bit = how.settings, 1e9 / how.numbers["rate"]
    serial = Serial(how.numbers["rate"], said.get("bits", 8), said.get("parity", "none"), said.get("stop", 1.0))
    begin, end = fields[0].start, fields[-1].end
    edges = inside(line, fields[0].start, fields[-1].end)
    quiet = Logic(begin - round(40 * bit), end + round(2 * bit), 1, edges)
    sent = decode(quiet, serial)
    found = pulses(edges, sent.starts, bit, 0.5, 0.5)
    # From the stop bit of one byte to the next one there is no time that it should take.
    place = np.searchsorted(sent.starts, found.begins, side="right") - 1
    mine = (place >= 0) & (found.ends - sent.starts[np.maximum(place, 0)] < (serial.length - 0.5) * bit)
    return taken(found, mine)
