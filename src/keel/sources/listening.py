"""What is heard at a source in a moment: how much, of whom, how full the bus is, what is wrong."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from keel.model.bus import wire_ns
from keel.model.faults import Fault, fault_words
from keel.model.frames import Flag, FrameBatch, concat
from keel.sources.source import Source

LOAD_UNKNOWN = -1.0
ALONE = "you listen alone with one sender: missing acknowledgements are to be expected"


@dataclass(frozen=True)
class Heard:
    """What was heard.

    Attributes:
        good, faulty: Frames without a fault, and others.
        identifiers: How many different ones the good ones have.
        load: The share of the time that the bus was busy; negative where that does not follow from frames.
        faults: Their classes, in words.
        unacknowledged: How many were faulty for nobody acknowledged them, and for nothing else.
        seconds: How long it was listened.
    """

    good: int
    faulty: int
    identifiers: int
    load: float
    faults: tuple[str, ...]
    unacknowledged: int
    seconds: float

    @property
    def is_alone(self) -> bool:
        """Whether one sender seems to have nobody who acknowledges."""
        return self.unacknowledged > 0 and 2 * self.unacknowledged >= self.faulty and self.identifiers <= 1

    @property
    def words(self) -> str:
        """What it means."""
        if not self.good and not self.faulty:
            return "no traffic"
        if not self.good:
            return "traffic, but only faults"
        load = f", {self.load * 100:.0f} % load" if self.load >= 0 else ""
        each = "identifier" if self.identifiers == 1 else "identifiers"
        said = f"good, {self.identifiers} {each}{load}"
        share = self.faulty / (self.good + self.faulty)
        return f"{said}, {share * 100:.0f} % faulty" if share >= 0.005 else said


def listen(
    source: Source,
    seconds: float,
    stopped: Callable[[], bool] = lambda: False,
    clock: Callable[[], float] = time.monotonic,
) -> Heard:
    """Listen for a while."""
    batches: list[FrameBatch] = []
    begin = clock()
    while clock() - begin < seconds and not stopped() and not source.ended:
        batch = source.poll(0.05)
        if len(batch):
            batches.append(batch)
    return heard_in(concat(batches), source, max(clock() - begin, 1e-3))


def heard_in(batch: FrameBatch, source: Source, seconds: float) -> Heard:
    """What some frames say that came in so many seconds."""
    is_faulty = (batch.faults != 0) | ((batch.flags & Flag.ERROR) != 0)
    good = batch.take(np.flatnonzero(~is_faulty))
    faults = batch.faults[is_faulty]
    every = int(np.bitwise_or.reduce(faults)) if len(faults) else 0
    load = LOAD_UNKNOWN
    if len(good) and good.bits.any():
        # Before the first frame there may have been nothing to listen to.
        load = float(wire_ns(batch.bus, batch.bits, batch.fast_bits, source.buses).sum()) / (seconds * 1e9)
    return Heard(
        len(good),
        int(is_faulty.sum()),
        len(np.unique(good.keys())),
        min(load, 1.0),
        tuple(fault_words(every)),
        int(np.count_nonzero(faults == int(Fault.ACK))),
        seconds,
    )
