"""Waveforms: the electrical record of one channel, as edges (logic) or as samples (volts).

Times are int64 nanoseconds on the clock of the file: from its zero, negative before a trigger.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
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
        grain: How finely edges are known, in ns: the interval of samples; 0 where as finely as it matters.
    """

    start: int
    end: int
    first: int
    edges: Times
    unknown: tuple[tuple[int, int], ...] = ()
    grain: float = 0.0

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
        return Logic(begin, end, self.first ^ low & 1, self.edges[low:high], grain=self.grain)

    @property
    def inverted(self) -> Logic:
        """The same with its levels exchanged."""
        return replace(self, first=1 - self.first)

    def level_at(self, time: int) -> int:
        """The level at a time."""
        return self.first ^ int(np.searchsorted(self.edges, time, side="right")) & 1


@dataclass(frozen=True, eq=False)
class Analog:
    """Volts at a fixed interval.

    Attributes:
        start: When the first sample was taken, in ns.
        step: Nanoseconds from one sample to the next; not always a whole number.
        samples: Numbers of any kind, shape (n,); in volts where ``scale`` is 1.
        scale: Volts of a sample of 1.
        unknown: Spans in which nothing was sampled, ascending, (from, to) in ns; what samples say there is made up.
    """

    start: int
    step: float
    samples: Any
    scale: float = 1.0
    unknown: tuple[tuple[int, int], ...] = ()

    @property
    def end(self) -> int:
        """The end of the last sample."""
        return self.start + round(len(self.samples) * self.step)

    def __len__(self) -> int:
        return len(self.samples)

    def volts(self, low: int = 0, high: int | None = None, every: int = 1) -> npt.NDArray[np.float64]:
        """Some samples in volts."""
        return np.asarray(self.samples[low:high:every], np.float64) * self.scale

    def times(self, places: Any) -> Times:
        """When some samples were taken, or moments between them."""
        return self.start + np.rint(np.asarray(places, np.float64) * self.step).astype(np.int64)


@dataclass(frozen=True, eq=False)
class Channel:
    """A channel: its name, its number from 1, what it recorded, other names it goes by, what is to be known of it.

    ``formula`` is how it is made of others, if it is.
    """

    name: str
    number: int
    wave: Logic | Analog
    others: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    formula: str = ""

    @property
    def is_logic(self) -> bool:
        """Whether it has levels rather than volts."""
        return isinstance(self.wave, Logic)
