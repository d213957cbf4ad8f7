"""Waveforms: the electrical record of one channel, as edges (logic) or as samples (volts).

Times are int64 nanoseconds on the clock of the file: from its zero, negative before a trigger.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

from keel.model.frames import Times

Volts = npt.NDArray[np.float32]


@dataclass(frozen=True, eq=False)
class Logic:
    """Levels over time.

    Attributes:
        start, end: What was recorded, in ns.
        first: The level at the start, 0 or 1.
        edges: When it changed, strictly ascending, shape (n,).
        unknown: Spans in which the level is not known, ascending, (from, to) in ns; no edge lies inside.
    """

    start: int
    end: int
    first: int
    edges: Times
    unknown: tuple[tuple[int, int], ...] = ()

    def stretches(self) -> Iterator[Logic]:
        """The parts between unknown spans, each as a waveform of its own."""
        begin = self.start
        for low, high in (*self.unknown, (self.end, self.end)):
            if low > begin:
                yield self.part(begin, low)
            begin = max(begin, high)

    def part(self, begin: int, end: int) -> Logic:
        """A part that holds no unknown span."""
        low, high = np.searchsorted(self.edges, [begin, end], side="right").tolist()
        return Logic(begin, end, self.first ^ low & 1, self.edges[low:high])

    @property
    def inverted(self) -> Logic:
        """The same with its levels exchanged."""
        return Logic(self.start, self.end, 1 - self.first, self.edges, self.unknown)

    def level_at(self, time: int) -> int:
        """The level at a time."""
        return self.first ^ int(np.searchsorted(self.edges, time, side="right")) & 1


@dataclass(frozen=True, eq=False)
class Analog:
    """Volts at a fixed interval.

    Attributes:
        start: When the first sample was taken, in ns.
        step: Nanoseconds from one sample to the next; not always a whole number.
        samples: In volts, shape (n,).
    """

    start: int
    step: float
    samples: Volts

    @property
    def end(self) -> int:
        """The end of the last sample."""
        return self.start + round(len(self.samples) * self.step)

    def times(self, places: Any) -> Times:
        """When some samples were taken, or moments between them."""
        return self.start + np.rint(np.asarray(places, np.float64) * self.step).astype(np.int64)


@dataclass(frozen=True, eq=False)
class Channel:
    """A channel of a file: its name, other names it goes by, its number from 1, and what it recorded."""

    name: str
    number: int
    wave: Logic | Analog
    others: tuple[str, ...] = ()
    notes: tuple[str, ...] = field(default=())

    @property
    def is_logic(self) -> bool:
        """Whether it has levels rather than volts."""
        return isinstance(self.wave, Logic)
