"""The simulated ferry as a live source."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from keel.bench.ferry import Ferry
from keel.bench.messages import BUSES, published_dictionary
from keel.bench.physics import STEP_S
from keel.model.frames import FrameBatch, empty_batch


class BenchSource:
    """*Tern* in real time, or ``speed`` times as fast."""

    def __init__(self, seed: int = 1, speed: float = 1.0, clock: Callable[[], float] = time.monotonic) -> None:
        self.title = "bench: the harbour ferry Tern"
        self.buses = list(BUSES)
        self.dictionary = published_dictionary()
        self.ended = False
        self._ferry = Ferry(seed, time.time_ns())
        self._speed, self._clock = speed, clock
        self._begin: float | None = None

    def poll(self) -> FrameBatch:
        """The frames since the last call."""
        if self._begin is None:
            self._begin = self._clock()
        due = (self._clock() - self._begin) * self._speed - self._ferry.elapsed_s
        return self._ferry.advance(due) if due >= STEP_S else empty_batch()

    def control(self, name: str, value: str) -> None:
        """Work a control of the ferry."""
        self._ferry.set(name, value)

    def state(self) -> dict[str, Any]:
        """How the controls stand."""
        return dict(self._ferry.controls)

    def lost(self) -> int:
        """Nothing is ever lost here: a slow machine only falls behind."""
        return 0

    def skipped(self) -> int:
        """Nothing."""
        return 0

    def said(self) -> list[str]:
        """Nothing."""
        return []

    def close(self) -> None:
        """Nothing to let go of."""
