"""What Health wants of the desk: load over the lens, faults by class, cycle times, checks."""

from __future__ import annotations

import time
from dataclasses import dataclass
from functools import partial
from heapq import nlargest
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from keel.app.desk.making import Making
    from keel.measure.checks import Verdict
    from keel.measure.cycles import Cycle
    from keel.measure.faults import FaultClass
    from keel.measure.load import BusMean, Series
    from keel.measure.peaks import Peak

MEASURE_EVERY_S = 1.0
HISTOGRAM_CELLS = 44
MOST_CYCLES = 2_000
"""Of so many identifiers cycle times are listed."""


@dataclass(frozen=True, eq=False)
class Health:
    """Health's part of a picture, all of it of the matches in the lens.

    Attributes:
        looked: The share of them looked at yet.
        left_out: How many identifiers are not among the cycles, because there are too many.
    """

    series: Series
    loads: list[BusMean]
    peaks: list[Peak | None]
    looked: float
    faults: list[FaultClass]
    cycles: list[Cycle]
    checks: list[Verdict]
    left_out: int = 0


class _Kept:
    """What does not change from one picture to the next."""

    def __init__(self) -> None:
        from keel.measure.checks import Runners
        from keel.measure.load import Loads
        from keel.measure.peaks import PeakFinder

        self.loads, self.peaks, self.checks = Loads(), PeakFinder(), Runners()
        self.health: tuple[float, object, Health] | None = None


@dataclass(frozen=True)
class HealthWant:
    """All that Health shows, its chart in so many cells."""

    cells: int = 60

    def make(self, making: Making) -> Health:
        """Health's part; every identifier is gone over for it, which is often enough once a second."""
        from keel.measure.cycles import describe_tally
        from keel.measure.faults import classes
        from keel.measure.load import bus_means, cells_for
        from keel.measure.peaks import settled

        kept, lens, matches = making.helpers.of(_Kept), making.lens, making.matches
        manifest = making.snapshot.manifest
        known = (making.wish, manifest.buses, manifest.checks, manifest.nominal, matches.complete)
        now = time.monotonic()
        if kept.health is not None and kept.health[1] == known and now - kept.health[0] < MEASURE_EVERY_S:
            return kept.health[2]
        nominal = manifest.nominal
        describe = partial(describe_tally, start=lens.start, end=lens.end, bins=HISTOGRAM_CELLS)
        tallies = [(key, tally) for key, tally in making.census.items() if tally.good]
        left_out = max(len(tallies) - MOST_CYCLES, 0)
        if left_out:
            # Nobody reads so many rows; those that are heard most tell most.
            tallies = nlargest(MOST_CYCLES, tallies, key=lambda one: one[1].good)
        cycles = [describe(tally, nominal=nominal.get(key, 0)) for key, tally in tallies]
        cycles.sort(key=lambda c: (c.worth_a_look, -c.gap / max(c.usual, 1)))
        making.courtesy()
        peaks = kept.peaks.find(matches, making.patience)
        making.unfinished = making.unfinished or peaks.looked < 1
        means = bus_means(matches, lens)
        series = kept.loads.series(matches, lens, cells_for(lens, self.cells))
        making.courtesy()
        health = Health(
            series,
            means,
            settled(peaks.buses, means, lens),
            min(peaks.looked, matches.looked),
            classes(matches, lens.end - lens.start),
            cycles,
            kept.checks.run(manifest.checks, making.snapshot, making.wish.lens, making.patience),
            left_out,
        )
        undecided = any(verdict.looked < 1 for verdict in health.checks)
        making.unfinished = making.unfinished or undecided
        if peaks.looked >= 1 and not undecided:
            kept.health = (now, known, health)
        return health
