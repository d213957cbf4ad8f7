"""What is measured of channels without reading what is said on them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from keel.lines.clocked import clock_words, frequency, is_clock
from keel.lines.code import Asked
from keel.lines.codes import EVERY
from keel.lines.pulses import NEAR, bit_time, idle_level, nearest_rate, window
from keel.lines.together import CLOCKED
from keel.probe.candidates import Wanted
from keel.probe.channels import Probed
from keel.probe.decoding import decode_channels
from keel.probe.lines import Line

LOOKED_AT, FITS = 60_000, 0.8
"""So many edges tell what a line is; and where no code explains it, such a share of its pulses has to be whole bits."""


@dataclass(frozen=True)
class Measured:
    """What is measured of a channel.

    Attributes:
        channel: The channel.
        rate: A second: bits, ticks of a sensor, periods of a clock; None where it cannot be told.
        fast_rate: That of the data phase; None where there is one rate.
        unit: What ``rate`` counts.
        said: What is to be known besides, in sentences.
        usual: The usual rate that is nearest, where a line's code knows it.
        idle: The level at which it rests, as its code has it; None where only its edges tell.
    """

    channel: Probed
    rate: float | None = None
    fast_rate: float | None = None
    unit: str = "bit/s"
    said: tuple[str, ...] = field(default=())
    usual: float | None = None
    idle: int | None = None

    def to_json(self) -> dict[str, Any]:
        """As ``measure --json`` has a channel."""
        nearest = round(self.usual) if self.usual else None if self.rate is None else nearest_rate(self.rate)
        row = self.channel.to_json()
        row["said"] += self.said
        row["idle"] = row["idle"] if self.idle is None else self.idle
        return {
            **row,
            "bit_time_ns": None if self.rate is None else 1e9 / self.rate,
            "rate": self.rate,
            "fast_rate": self.fast_rate,
            "nearest_rate": nearest,
            "deviation": None if self.rate is None or nearest is None else self.rate / nearest - 1,
        }


def measured(channels: Sequence[Probed]) -> list[Measured]:
    """What ``measure`` says of channels: what reading their begin tells, else what their pulses tell by themselves."""
    done = decode_channels(_begins(channels), [Wanted()], Asked())
    found = []
    for one, begin in zip(channels, done.channels, strict=True):
        name = one.channel.name
        line = next((line for line in done.lines if name in line.of.roles), None)
        if line is not None:
            found.append(_of_line(one, line))
        else:
            found.append(_by_itself(one, begin, tuple(done.said.get(name, ()))))
    return found


def _begins(channels: Sequence[Probed]) -> list[Probed]:
    """The channels up to where the busiest of them has enough edges to tell what it is."""
    ends = [int(one.logic.edges[LOOKED_AT]) for one in channels if len(one.logic.edges) > LOOKED_AT]
    if not ends:
        return list(channels)
    until = min(ends)
    return [replace(one, logic=window(one.logic, one.logic.start, until)) for one in channels]


def _of_line(one: Probed, line: Line) -> Measured:
    """What is measured of a channel that belongs to a line."""
    # What is made of the channels of a line is the line.
    guess, role = line.guess, line.of.roles.get(one.channel.name, "line")
    title = EVERY[guess.code].title
    if guess.code in CLOCKED:
        clock = next(name for name, its in line.of.roles.items() if its == "clock")
        if role != "clock":
            return Measured(one, said=(f"goes by the clock {clock}: {title}",))
        said = (f"the clock of {title}", *clock_words(one.logic))
        return Measured(one, frequency(one.logic) or guess.rate, unit="Hz", said=said)
    idle = {"high": 0, "low": 1}.get(role, int(not guess.inverted))
    if guess.code == "sent":
        return Measured(one, guess.rate, unit="ticks/s", usual=float(guess.bus.bit_rate), idle=idle)
    usual = float(guess.bus.bit_rate)
    near = usual if abs(guess.rate / usual - 1) < NEAR else None
    return Measured(one, guess.rate, guess.fast_rate, said=(f"the bits of {title}",), usual=near, idle=idle)


def _by_itself(one: Probed, begin: Probed, said: tuple[str, ...]) -> Measured:
    """What is measured of a channel that no code explains."""
    if is_clock(begin.logic):
        said_of_clock = ("a clock, or pulses as steady as one", *clock_words(begin.logic))
        return Measured(one, frequency(begin.logic) or None, unit="Hz", said=said_of_clock)
    unit = bit_time(begin.logic)
    if unit is None or unit.fits < FITS:
        return Measured(one, said=said)
    return Measured(one, float(unit.rate), said=said)


def facts(one: Probed, line: Line | None = None) -> dict[str, float]:
    """What a recording keeps of a channel's measures, by the line it belongs to; see `WaveformEntry.measured`."""
    found: dict[str, float] = {"idle": idle_level(one.logic), "edges": one.edges}
    if one.levels is not None and one.levels.swing:
        found |= {"low": one.levels.low, "high": one.levels.high, "threshold": one.levels.threshold}
    told = _of_line(one, line) if line is not None else None
    if told is not None:
        found |= {"idle": float(told.idle)} if told.idle is not None else {}
        found |= {"bit_ns": 1e9 / told.rate} if told.rate else {}
        return found | ({"fast_bit_ns": 1e9 / told.fast_rate} if told.fast_rate else {})
    unit = bit_time(one.logic)
    return found | ({"bit_ns": unit.ns} if unit is not None and unit.fits >= FITS else {})
