"""The traffic a hunt searches: columns by identifier, what they are made of, and the fields in them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from keel.ask.matches import Matches
from keel.hunt.candidates import Candidate
from keel.hunt.carriers import Carrier, carriers_of
from keel.hunt.checksums import find_checksum
from keel.hunt.columns import Column
from keel.hunt.structure import Structure, structures_of
from keel.model.fields import extract
from keel.model.frames import Times


@dataclass(frozen=True, eq=False)
class Traffic:
    """What is searched. It is worked out once and serves every kind of evidence."""

    columns: dict[int, Column]
    structures: dict[int, Structure]
    carriers: list[Carrier]

    def values(self, found: Candidate) -> tuple[Times, npt.NDArray[np.int64]]:
        """When a candidate was sent, in ns since 1970, and its raw values; both shape (n,)."""
        column = self.columns[found.key]
        rows = self.structures[found.key].rows_of(found.page, column.payloads)
        return column.times[rows], extract(found.field, column.payloads[rows])

    @property
    def notes(self) -> tuple[str, ...]:
        """What was left out, in sentences."""
        most = max((c.every for c in self.columns.values()), default=1)
        if most == 1:
            return ()
        thinned = sum(c.every > 1 for c in self.columns.values())
        return (f"of {thinned} identifiers not every frame was looked at: of the most frequent each {most}th",)

    @classmethod
    def of(cls, columns: dict[int, Column], cancelled: Callable[[], bool] = lambda: False) -> Traffic:
        """Work out the structure of some columns."""
        structures = structures_of(columns, cancelled)
        return cls(columns, structures, carriers_of(columns, structures))


def hunt_once(matches: Matches) -> None:
    """Run what is compiled once, so that nobody waits for it later."""
    from keel.hunt.columns import gather
    from keel.hunt.measurements import Points
    from keel.hunt.readings import follow_readings
    from keel.hunt.windows import fit_windows

    columns = gather(matches)
    traffic = Traffic.of(columns)
    times = next(iter(columns.values())).times[:4]
    follow_readings(traffic, Points(times, np.arange(len(times), dtype=np.float64)))
    payloads = next(iter(columns.values())).payloads
    fit_windows(np.ascontiguousarray(payloads), np.arange(len(payloads), dtype=np.float64))
    # A CRC is looked for only where plainer sums do not hold.
    rows = np.random.default_rng(1).integers(0, 256, (64, 4)).astype(np.uint8)
    find_checksum(rows, 1, [])
