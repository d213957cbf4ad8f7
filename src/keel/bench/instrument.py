"""A line aboard as an instrument sees it: its wires, how they are sampled, what was sailed meanwhile."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from keel.bench.messages import full_dictionary
from keel.model.frames import FrameBatch, Times
from keel.model.waveform import Logic
from keel.probe.candidates import Wanted


@dataclass(frozen=True)
class Wire:
    """A channel of a probe: its name, its line, and what it has in volts.

    Attributes:
        low, high: Volts where the line is low and where it is high.
        inverted: Whether the wire's logic is the line's, exchanged.
        curve: Volts at times in ns from the begin, of what has no levels; ``line`` says nothing then.
    """

    name: str
    line: Logic
    low: float
    high: float
    inverted: bool = False
    curve: Callable[[Any], Any] | None = None


@dataclass(frozen=True, eq=False)
class Sailed:
    """What was sailed while a line was probed.

    Attributes:
        batch: The frames of all lines.
        start, end: In ns.
        seed: The voyage.
    """

    batch: FrameBatch
    start: int
    end: int
    seed: int

    def readings(self, bus: int, name: str) -> tuple[Times, list[bytes]]:
        """The payloads of a message, and when each was sent."""
        ident = next(one.ident for one in full_dictionary().messages if one.name == name)
        rows = np.flatnonzero((self.batch.bus == bus) & (self.batch.ident == ident))
        return self.batch.time[rows], [self.batch.payload(row) for row in rows.tolist()]

    def every(self, seconds: float, first: float) -> list[int]:
        """Moments at a fixed interval, in ns from the begin."""
        return [int(one) for one in np.arange(first * 1e9, self.end - self.start, seconds * 1e9)]


@dataclass(frozen=True)
class Probe:
    """What can be probed.

    Attributes:
        word: As commands have it.
        title: In words.
        step_ns: How often an instrument samples it; 0: it records levels alone.
        rise_ns, noise: How slow its edges are, and how much noise is on it, in volts.
        wires: What its wires do.
        wanted: How it is read, where nothing tells by itself.
        works: What is worked meanwhile unless a person says something else, as ``0.3s:ramp=down``.
        rings: By what share of the swing its edges ring.
        seconds: How long it is probed unless a person says something else.
    """

    word: str
    title: str
    step_ns: float
    rise_ns: float
    noise: float
    wires: Callable[[Sailed], list[Wire]]
    wanted: Wanted = field(default_factory=Wanted)
    works: str = ""
    seconds: float = 1.0
    rings: float = 0.0
