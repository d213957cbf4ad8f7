"""Cycle times in bins: percentiles, histograms, how many are longer than something. Right to a bin, 0.2 %."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from keel.model.frames import Rows, Times
from keel.store.summary import bin_edges, step_bin


@dataclass(frozen=True, eq=False)
class Bins:
    """How many cycle times fall in which bin of `keel.store.summary.step_bin`, ascending; the extremes are exact."""

    bins: Times
    counts: Rows
    least: int
    most: int

    @classmethod
    def of(cls, steps: Times) -> Bins:
        """The bins of some cycle times in ns."""
        if not len(steps):
            return cls(np.zeros(0, np.int64), np.zeros(0, np.int64), 0, 0)
        bins, counts = np.unique(step_bin(steps).astype(np.int64), return_counts=True)
        return cls(bins, counts.astype(np.int64), int(steps.min()), int(steps.max()))

    @property
    def total(self) -> int:
        """How many there are."""
        return int(self.counts.sum())

    def _edges(self) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]]:
        low, high = bin_edges(self.bins)
        # Whole numbers from low to high - 1; nothing lies beyond the extremes.
        return np.maximum(low, self.least).astype(np.float64), np.minimum(high - 1, self.most).astype(np.float64)

    def percentile(self, share: float) -> float:
        """The cycle time that so large a share (0 to 1) does not exceed, in ns; within the bin by proportion."""
        if not len(self.bins):
            return 0.0
        low, high = self._edges()
        ends = np.cumsum(self.counts)
        rank = share * (self.total - 1)
        place = int(np.searchsorted(ends, rank, side="right"))
        place = min(place, len(ends) - 1)
        inside = (rank - (ends[place] - self.counts[place])) / max(int(self.counts[place]) - 1, 1)
        return float(low[place] + (high[place] - low[place]) * min(inside, 1.0))

    def longer_than(self, ns: float) -> int:
        """How many are longer, to a bin."""
        low, _ = self._edges()
        return int(self.counts[low > ns].sum())

    def histogram(self, low: float, high: float, cells: int) -> Rows:
        """Counts in equal cells from ``low`` to ``high``; what lies beyond falls in the first and the last."""
        starts, ends = self._edges()
        size = max((high - low) / cells, 1e-9)
        first = np.clip(np.floor((starts - low) / size), 0, cells - 1).astype(np.int64)
        last = np.clip(np.floor((ends - low) / size), 0, cells - 1).astype(np.int64)
        # A bin wider than a cell is spread evenly over the cells it covers.
        share = self.counts / (last - first + 1)
        steps = np.bincount(first, share, cells + 1) - np.bincount(last + 1, share, cells + 1)
        out = np.cumsum(steps[:cells])
        # Rounded so that none is lost.
        whole: Rows = np.diff(np.rint(np.cumsum(out)), prepend=0.0).astype(np.int64)
        return whole
