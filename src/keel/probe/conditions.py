"""Raw conditions on a channel: pulses that are too short or too long, silences, runts; each time they are met."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from keel.errors import InputError
from keel.lines.levels import levels_of, logic_of
from keel.model.frames import Times
from keel.model.units import length_ns
from keel.model.waveform import Analog, Logic

EXPECTED = "pulse<2us, pulse>1ms, high<2us, low>5ms, gap>5ms, or runt"
_CONDITION = re.compile(r"(pulse|high|low|gap)\s*([<>])(.*)$", re.I)
LOWER, UPPER = 0.3, 0.7
"""A runt leaves a level by more than the first share of the swing and does not come as far as the second."""


@dataclass(frozen=True)
class Condition:
    """What is looked for.

    Attributes:
        of: ``pulse`` or ``gap`` (any level), ``high``, ``low``, ``runt``.
        is_less: Whether what is shorter is looked for.
        limit_ns: Than what.
    """

    of: str
    is_less: bool = False
    limit_ns: float = 0.0


@dataclass(frozen=True, eq=False)
class Found:
    """When a condition was met: begins and ends in ns, shape (n,)."""

    starts: Times
    ends: Times

    def __len__(self) -> int:
        return len(self.starts)


def parse_condition(text: str) -> Condition:
    """A condition as it is typed.

    Raises:
        InputError: it is none.
    """
    plain = text.strip().lower()
    if plain == "runt":
        return Condition("runt")
    found = _CONDITION.match(plain)
    limit = length_ns(found[3]) if found is not None else None
    if found is None or limit is None:
        raise InputError("the condition", f"“{text}” is none", EXPECTED)
    return Condition(found[1], found[2] == "<", limit)


def find(wave: Logic | Analog, condition: Condition, stopped: Callable[[], bool] = lambda: False) -> Found:
    """Each time that a condition is met on a channel, in the order of time.

    Args:
        wave: The channel.
        condition: What is looked for.
        stopped: Says whether to leave off.

    Raises:
        InputError: it says nothing of such a channel.
    """
    if condition.of == "runt":
        if not isinstance(wave, Analog):
            raise InputError("runt", "this channel has levels alone", "a channel in volts")
        return _runts(wave)
    line = logic_of(wave, levels_of(wave)) if isinstance(wave, Analog) else wave
    starts, ends = [], []
    for begins, stops, level in _pulses(line):
        if stopped():
            break
        lasts = stops - begins
        met = lasts < condition.limit_ns if condition.is_less else lasts > condition.limit_ns
        if condition.of in ("high", "low"):
            met &= level == (condition.of == "high")
        starts.append(begins[met])
        ends.append(stops[met])
    none = np.zeros(0, np.int64)
    return Found(np.concatenate([none, *starts]), np.concatenate([none, *ends]))


def _pulses(line: Logic) -> Iterator[tuple[Times, Times, Times]]:
    """Begins, ends and levels of what lies between two edges, of each stretch that is known."""
    for part in line.stretches():
        edges = part.edges
        if len(edges) > 1:
            # The level behind the first edge is another one than before it.
            levels = (np.arange(1, len(edges)) + part.first) & 1
            yield edges[:-1], edges[1:], levels


def _runts(wave: Analog) -> Found:
    """Excursions from a level that come nowhere near the other one."""
    levels = levels_of(wave)
    if not levels.swing or not len(wave):
        return Found(np.zeros(0, np.int64), np.zeros(0, np.int64))
    swing = levels.high - levels.low
    volts = wave.volts()
    cut, far = levels.low + LOWER * swing, levels.low + UPPER * swing
    up = _excursions(volts > cut, volts, lambda peaks: peaks < far, np.maximum)
    down = _excursions(volts < far, volts, lambda peaks: peaks > cut, np.minimum)
    rows = sorted({*up, *down})
    moments = np.array(rows, np.float64).reshape(-1, 2) * wave.step + wave.start
    whole = np.rint(moments).astype(np.int64)
    return Found(whole[:, 0], whole[:, 1])


def _excursions(
    inside: np.ndarray, volts: np.ndarray, is_short: Callable[[np.ndarray], np.ndarray], peak: np.ufunc
) -> list[tuple[int, int]]:
    """Runs of samples beyond a cut, by the sample they begin with and that behind them, whose peak falls short.

    What the recording begins or ends with is none: how far it goes is not known.
    """
    turned = np.flatnonzero(np.diff(inside.astype(np.int8))) + 1
    first = 0 if not inside[0] else 1
    begins, stops = turned[first::2], turned[first + 1 :: 2]
    begins = begins[: len(stops)]
    if not len(begins):
        return []
    bounds = np.stack([begins, stops], axis=1).ravel()
    peaks = peak.reduceat(volts, np.minimum(bounds, len(volts) - 1))[::2]
    short = is_short(peaks)
    return list(zip(begins[short].tolist(), stops[short].tolist(), strict=True))
