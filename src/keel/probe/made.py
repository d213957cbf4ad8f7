"""Channels made of others, kept as formulas: a difference, an inversion, a low-pass, a threshold.

    difference(CANH, CANL)    inverted(tx)    lowpass(A, 10us)    threshold(A, 2.5V)

Names that hold a comma or a parenthesis stand in double quotes.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np

from keel.errors import InputError
from keel.lines.levels import levels_of, logic_of, smoothed
from keel.model.units import length_ns
from keel.model.waveform import Analog, Logic

Wave = Logic | Analog
_FORMULA = re.compile(r"\s*(\w+)\s*\((.*)\)\s*$")
_PART = re.compile(r'\s*(?:"([^"]*)"|([^,"]+?))\s*(?:,|$)')
EXPECTED = "difference(A, B), inverted(A), lowpass(A, 10us) or threshold(A, 2.5V)"


@dataclass(frozen=True)
class Formula:
    """How a channel is made: by what, of which channels, with which number (ns, volts, or none)."""

    how: str
    of: tuple[str, ...]
    number: float = 0.0

    @property
    def text(self) -> str:
        """As it is written."""
        names = ", ".join(f'"{name}"' if re.search(r'[,()"]', name) else name for name in self.of)
        return f"{self.how}({names}{_HOW[self.how].written(self.number)})"


def parse_formula(text: str) -> Formula:
    """A formula from its text.

    Raises:
        InputError: it is none.
    """
    found = _FORMULA.match(text)
    if found is None or found[1].lower() not in _HOW:
        raise InputError("--make", f"“{text}” is no formula", EXPECTED)
    how = _HOW[found[1].lower()]
    parts = [quoted or plain for quoted, plain in _PART.findall(found[2]) if quoted or plain]
    number = 0.0
    if how.read is not None and parts:
        number = how.read(parts.pop())
    if len(parts) != how.channels:
        raise InputError("--make", f"“{text}” is made of {len(parts)} channels", EXPECTED)
    return Formula(found[1].lower(), tuple(parts), number)


def made(formula: Formula, waves: Mapping[str, Wave]) -> Wave:
    """The waveform that a formula makes.

    Raises:
        InputError: a channel is not there, or is not of the kind that is needed.
    """
    missing = [name for name in formula.of if name not in waves]
    if missing:
        raise InputError(formula.text, f"no channel is called {missing[0]}", ", ".join(waves))
    return _HOW[formula.how].make([waves[name] for name in formula.of], formula.number, formula.text)


def _in_volts(wave: Wave, where: str) -> Analog:
    if not isinstance(wave, Analog):
        raise InputError(where, "is made of a channel without volts", "channels in volts")
    return wave


def _difference(waves: list[Wave], number: float, where: str) -> Wave:
    a, b = (_in_volts(wave, where) for wave in waves)
    if abs(a.step - b.step) > 1e-6 * a.step:
        raise InputError(where, "its channels are not sampled alike", "two channels of one instrument")
    late = round((b.start - a.start) / a.step)
    low, high = max(late, 0), min(len(a), len(b) + late)
    if high <= low:
        raise InputError(where, "its channels were not recorded at the same time", "two channels of one instrument")
    scales = np.float32(a.scale), np.float32(b.scale)
    samples = a.samples[low:high] * scales[0] - b.samples[low - late : high - late] * scales[1]
    lost = tuple(sorted({*a.unknown, *b.unknown}))
    return Analog(a.start + round(low * a.step), a.step, samples.astype(np.float32, copy=False), unknown=lost)


def _inverted(waves: list[Wave], number: float, where: str) -> Wave:
    (wave,) = waves
    if isinstance(wave, Logic):
        return wave.inverted
    return Analog(wave.start, wave.step, wave.samples, -wave.scale, wave.unknown)


def _lowpass(waves: list[Wave], number: float, where: str) -> Wave:
    return smoothed(_in_volts(waves[0], where), number)


def _threshold(waves: list[Wave], number: float, where: str) -> Wave:
    wave = _in_volts(waves[0], where)
    return logic_of(wave, levels_of(wave, number))


def _ns(text: str) -> float:
    found = length_ns(text)
    if found is None:
        raise InputError("--make", f"“{text}” is no time", "a time with its unit, as 10us")
    return found


def _volts(text: str) -> float:
    try:
        return float(text.strip().lower().removesuffix("v"))
    except ValueError:
        raise InputError("--make", f"“{text}” is no voltage", "volts, as 2.5V") from None


@dataclass(frozen=True)
class _How:
    """A way to make a channel: of how many, how its number is read and written, and how it is made."""

    channels: int
    make: Callable[[list[Wave], float, str], Wave]
    read: Callable[[str], float] | None = None
    written: Callable[[float], str] = lambda number: ""


_HOW = {
    "difference": _How(2, _difference),
    "inverted": _How(1, _inverted),
    "lowpass": _How(1, _lowpass, _ns, lambda ns: f", {ns / 1e3:g}us"),
    "threshold": _How(1, _threshold, _volts, lambda volts: f", {volts:g}V"),
}
