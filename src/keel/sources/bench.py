"""The simulated ferry as a live source."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from keel.bench.controls import CONTROLS
from keel.bench.ferry import Ferry
from keel.bench.messages import published_dictionary
from keel.bench.physics import STEP_S
from keel.model.frames import FrameBatch, empty_batch
from keel.sources.kind import Given, Kind, Offer, Parameter, whole_number
from keel.sources.source import Source


class BenchSource(Source):
    """*Tern* in real time, or ``speed`` times as fast."""

    title = "bench: the harbour ferry Tern"
    controls = CONTROLS

    def __init__(
        self,
        seed: int = 1,
        speed: float = 1.0,
        clock: Callable[[], float] = time.monotonic,
        with_others: bool = False,
    ) -> None:
        super().__init__()
        self.dictionary = published_dictionary()
        self._ferry = Ferry(seed, time.time_ns(), with_others=with_others)
        self.buses = list(self._ferry.buses)
        self._speed, self._clock = speed, clock
        self._begin: float | None = None

    def poll(self, wait_s: float = 0.0) -> FrameBatch:
        """The frames since the last call."""
        if self._begin is None:
            self._begin = self._clock()
        due = self._due()
        if wait_s and due / self._speed < wait_s:
            # Many steps at once take little more than one.
            time.sleep(wait_s - due / self._speed)
            due = self._due()
        return self._ferry.advance(due) if due >= STEP_S else empty_batch()

    def _due(self) -> float:
        assert self._begin is not None
        return (self._clock() - self._begin) * self._speed - self._ferry.elapsed_s

    def control(self, name: str, value: str) -> None:
        """Work a control of the ferry."""
        self._ferry.set(name, value)

    def state(self) -> dict[str, Any]:
        """How the controls stand."""
        return dict(self._ferry.controls)


def _speed(text: str) -> float:
    speed = float(text)
    if not 0.1 <= speed <= 60:
        raise ValueError(text)
    return speed


def _open(given: Given) -> Source:
    return BenchSource(given.values["seed"], given.values["speed"], with_others=given.values["lines"] == "all")


KIND: Kind = Kind(
    "bench",
    "the simulated harbour ferry Tern",
    _open,
    parameters=(
        Parameter("seed", "which voyage", 1, (), *whole_number(0, 10**9)),
        Parameter("lines", "whether only CAN, or all lines aboard", "all", ("all", "can")),
        Parameter("speed", "times as fast as real", 1.0, (), _speed, "a number from 0.1 to 60"),
    ),
    there=lambda: [Offer(KIND.given(), "the simulated harbour ferry Tern")],
    example="bench",
)
