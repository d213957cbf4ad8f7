"""What a person says of the numbers in a waveform file: units, gain, offset, how a text lies. The rest is guessed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from keel.errors import InputError
from keel.model.units import TIME_NS, length_ns
from keel.model.waveform import Analog, Channel

VOLTS = {"v": 1.0, "volt": 1.0, "volts": 1.0, "mv": 1e-3, "uv": 1e-6, "µv": 1e-6, "kv": 1e3}
EVERY = ""
"""Stands for the name of every channel."""


@dataclass(frozen=True)
class Taken:
    """How a waveform file is taken; what is None or empty is found.

    Attributes:
        time_unit: Of the column of times.
        interval_ns: From one sample to the next, where there are no times.
        volt_units, gains, offsets: By the names of channels; `EVERY` means all others. A channel is its numbers in
            their unit, times the gain, plus the offset in volts.
        separator, comma, skip, has_time: How a text lies: what stands between its cells, whether decimals have a comma,
            how many lines come before its numbers, whether its first column holds times.
    """

    time_unit: str = ""
    interval_ns: float = 0.0
    volt_units: Mapping[str, str] = field(default_factory=dict)
    gains: Mapping[str, float] = field(default_factory=dict)
    offsets: Mapping[str, float] = field(default_factory=dict)
    separator: str = ""
    comma: bool | None = None
    skip: int | None = None
    has_time: bool | None = None

    def volts_in(self, channel: str) -> float | None:
        """How many volts one of a channel's numbers is; None where nothing was said."""
        unit = self.volt_units.get(channel, self.volt_units.get(EVERY))
        return VOLTS[unit.lower()] if unit else None

    @property
    def given(self) -> list[str]:
        """What of it was set, by name."""
        named = {
            "unit": bool(self.time_unit or self.volt_units),
            "interval": bool(self.interval_ns),
            "gain": bool(self.gains),
            "offset": bool(self.offsets),
        }
        return [name for name, is_set in named.items() if is_set]


AS_FOUND = Taken()


def parse_taken(
    units: Sequence[str] = (), gains: Sequence[str] = (), offsets: Sequence[str] = (), interval: str = ""
) -> Taken:
    """What was said on the command line: ``ms``, ``CH2=mV``; ``10``, ``CH2=10``; ``-2.5``, ``CH2=0.1``; ``10us``.

    Raises:
        InputError: a unit or a number is none.
    """
    time_unit, volt_units = "", {}
    for text in units:
        name, unit = _named(text)
        if unit.lower() in TIME_NS and not name:
            time_unit = unit.lower()
        elif unit.lower() in VOLTS:
            volt_units[name] = unit
        else:
            raise InputError("--unit", f"“{text}” is no unit", "s, ms, us or ns of times; V, mV, uV, or CHANNEL=mV")
    interval_ns = _interval(interval) if interval else 0.0
    return Taken(time_unit, interval_ns, volt_units, _numbers("--gain", gains), _numbers("--offset", offsets))


def _interval(text: str) -> float:
    """A time with its unit, in ns; it need not be whole."""
    found = length_ns(text)
    if found is None:
        raise InputError("--interval", f"“{text}” is no time", "a time with its unit, as 10us or 12.5ns")
    return found


def _named(text: str) -> tuple[str, str]:
    """The channel that something is said of, and what."""
    name, equals, said = text.rpartition("=")
    return (name.strip() if equals else EVERY), said.strip()


def _numbers(option: str, texts: Sequence[str]) -> dict[str, float]:
    found = {}
    for text in texts:
        name, said = _named(text)
        try:
            number = float(said.lower().removesuffix("v"))
        except ValueError:
            number = float("nan")
        if not np.isfinite(number) or (option == "--gain" and not number):
            raise InputError(option, f"“{text}” is no number", f"a number, or CHANNEL=NUMBER, as {option} CH1=10")
        found[name] = number
    return found


def scaled(channels: Sequence[Channel], taken: Taken) -> list[Channel]:
    """Channels with their gains and offsets, where some were said.

    Raises:
        InputError: a channel that was named is none, or has no volts.
    """
    if not taken.gains and not taken.offsets:
        return list(channels)
    volts = [one.name for one in channels if isinstance(one.wave, Analog)]
    for option, said in (("--gain", taken.gains), ("--offset", taken.offsets)):
        for name in said:
            if name not in volts and (name or not volts):
                known = ", ".join(volts) or "none of this file"
                raise InputError(option, f"{name or 'no channel'} has no volts", f"a channel in volts: {known}")
    return [_scaled(one, taken) for one in channels]


def _scaled(channel: Channel, taken: Taken) -> Channel:
    gain = taken.gains.get(channel.name, taken.gains.get(EVERY, 1.0))
    offset = taken.offsets.get(channel.name, taken.offsets.get(EVERY, 0.0))
    wave = channel.wave
    if not isinstance(wave, Analog) or (gain == 1.0 and offset == 0.0):
        return channel
    scale = wave.scale * gain
    if offset:
        samples = wave.samples * np.float32(scale) + np.float32(offset)
        wave = replace(wave, samples=samples.astype(np.float32, copy=False), scale=1.0)
    else:
        wave = replace(wave, scale=scale)
    said = [f"gain {gain:g}" if gain != 1.0 else "", f"offset {offset:g} V" if offset else ""]
    return replace(channel, wave=wave, notes=(*channel.notes, f"set by hand: {', '.join(filter(None, said))}"))
