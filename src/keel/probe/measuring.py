"""What is measured of channels without reading what is said on them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from keel.lines.clocked import Wire, clock_words, frequency
from keel.lines.code import Asked
from keel.lines.codes import guesses, is_told
from keel.lines.pulses import BitTime, bit_time, head, idle_level, nearest_rate
from keel.lines.together import groups
from keel.probe.channels import Probed

LOOKED_AT = 60_000
"""So many edges tell how long a sensor's tick is."""


@dataclass(frozen=True)
class Measured:
    """What is measured of a channel.

    Attributes:
        channel: The channel.
        rate: A second: bits, ticks of a sensor, periods of a clock; None where it cannot be told.
        fast_rate: That of the data phase; None where there is one rate.
        unit: What ``rate`` counts.
        said: What is to be known besides, in sentences.
        usual: The usual rate that is nearest, where it is none of those of bits.
    """

    channel: Probed
    rate: float | None = None
    fast_rate: float | None = None
    unit: str = "bit/s"
    said: tuple[str, ...] = field(default=())
    usual: float | None = None

    def to_json(self) -> dict[str, Any]:
        """As ``measure --json`` has a channel."""
        nearest = self.usual if self.usual or self.rate is None else nearest_rate(self.rate)
        row = self.channel.to_json()
        row["said"] += self.said
        return {
            **row,
            "bit_time_ns": None if self.rate is None else 1e9 / self.rate,
            "rate": self.rate,
            "fast_rate": self.fast_rate,
            "nearest_rate": nearest,
            "deviation": None if self.rate is None or nearest is None else self.rate / nearest - 1,
        }


def measured(channels: Sequence[Probed]) -> list[Measured]:
    """What ``measure`` says of channels: those that have a clock by themselves, and those that go by another's."""
    wires = [Wire(one.channel.name, "", one.logic) for one in channels]
    clocks: dict[str, str] = {}
    clocked: dict[str, str] = {}
    for code, group in groups(wires, Asked()):
        clock = next(one for one in group if one.role == "clock")
        clocks[clock.name] = f"the clock of {code.title}"
        clocked |= {one.name: f"goes by the clock {clock.name}: {code.title}" for one in group if one is not clock}
    found = []
    for one in channels:
        name = one.channel.name
        if name in clocks:
            said = (clocks[name], *clock_words(one.logic))
            found.append(Measured(one, frequency(one.logic) or None, unit="Hz", said=said))
        elif name in clocked:
            found.append(Measured(one, said=(clocked[name],)))
        else:
            found.append(_by_itself(one))
    return found


def _by_itself(one: Probed) -> Measured:
    unit: BitTime | None = bit_time(one.logic)
    sensor = guesses(head(one.logic, LOOKED_AT), Asked(), "sent")
    if is_told(sensor):
        return Measured(one, 1e9 / sensor[0].how["tick"], unit="ticks/s", usual=sensor[0].rate)
    if unit is None:
        return Measured(one)
    rate, fast = float(unit.rate), None
    found = [g for g in guesses(one.logic, Asked(), "canfd") if g.fast_rate]
    if found and found[0].is_told:
        rate, fast = float(found[0].rate), found[0].fast_rate
        if unit.nearest_rate:
            rate *= unit.rate / unit.nearest_rate
    return Measured(one, rate, fast)


def facts(one: Probed) -> dict[str, float]:
    """What a recording keeps of a channel's measures; see `WaveformEntry.measured`."""
    found: dict[str, float] = {"idle": idle_level(one.logic), "edges": one.edges}
    if one.levels is not None and one.levels.swing:
        found |= {"low": one.levels.low, "high": one.levels.high, "threshold": one.levels.threshold}
    unit = bit_time(one.logic)
    return found | ({"bit_ns": unit.ns} if unit is not None else {})
