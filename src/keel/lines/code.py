"""What a line code is: how it reads a line, and how well that explains what is there."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from keel.lines.pulses import BitTime
from keel.model.bus import Bus
from keel.model.frames import FrameBatch
from keel.model.waveform import Logic


@dataclass(frozen=True)
class Asked:
    """What a person said of a line; what is None is found.

    Attributes:
        rate, fast_rate: In bit/s.
        inverted: Whether it rests low although its code rests high.
        settings: What the code itself takes, by name.
    """

    rate: float | None = None
    fast_rate: float | None = None
    inverted: bool | None = None
    settings: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, eq=False)
class Guess:
    """A line read in one way.

    Attributes:
        code: The code.
        rate, fast_rate: In bit/s, as measured or said; ``fast_rate`` is None where there is one rate.
        inverted: Whether it was read with its levels exchanged.
        settings: What was found or said of the code.
        frames: What came, on bus 0, times in ns on the waveform's clock.
        bus: The bus it is of, but for its name.
        explained: The share of the line's active time that good frames cover.
        proved: Whether the code has checks that chance does not meet.
        said: What is to be known, in sentences.
    """

    code: str
    rate: float
    fast_rate: float | None
    inverted: bool
    settings: Mapping[str, Any]
    frames: FrameBatch
    bus: Bus
    explained: float
    proved: bool
    faulty: int
    said: tuple[str, ...] = ()

    @property
    def score(self) -> float:
        """How much is to be said for it, from 0 to 1: codes without a check are held against their faults."""
        good = len(self.frames) - self.faulty
        if good <= 0:
            return 0.0
        share = good / len(self.frames)
        return self.explained * (1.0 if self.proved else share**4 * 0.9)


Read = Callable[[Logic, BitTime | None, Asked], list[Guess]]


@dataclass(frozen=True)
class Code:
    """A line code.

    Attributes:
        word: As commands have it.
        title: What it is.
        read: The ways to read a line in it, given the bit time that its edges tell; the best first, or none.
        takes: Settings by name, and the values they take in words.
    """

    word: str
    title: str
    read: Read
    takes: Mapping[str, str] = field(default_factory=dict)
