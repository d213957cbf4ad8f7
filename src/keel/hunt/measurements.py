"""Evidence that has numbers: values at moments."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from keel.hunt.carriers import Floats
from keel.model.frames import Times


@dataclass(frozen=True, eq=False)
class Points:
    """What was read off a display, or logged by another instrument: times in ns since 1970 by the clock of who wrote
    them down, and values; both shape (n,)."""

    times: Times
    values: Floats

    def thinned(self, most: int) -> Points:
        """Those that are numbers, in order of time; at most so many, evenly."""
        finite = np.isfinite(self.values)
        times, values = self.times[finite], self.values[finite]
        order = np.argsort(times, kind="stable")
        if len(order) > most:
            order = order[np.linspace(0, len(order) - 1, most).astype(np.int64)]
        return Points(times[order], values[order])
