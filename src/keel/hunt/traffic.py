"""The traffic a hunt searches: columns by identifier, what they are made of, and the fields in them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from keel.hunt.carriers import Carrier, carriers_of
from keel.hunt.columns import Column
from keel.hunt.structure import Structure, structures_of
from keel.model.fields import BitField, extract
from keel.model.frames import Times


@dataclass(frozen=True, eq=False)
class Traffic:
    """What is searched. It is worked out once and serves every kind of evidence."""

    columns: dict[int, Column]
    structures: dict[int, Structure]
    carriers: list[Carrier]

    def values(self, key: int, field: BitField, page: int | None = None) -> tuple[Times, npt.NDArray[np.int64]]:
        """When a field was sent, in ns since 1970, and its raw values; both shape (n,)."""
        column = self.columns[key]
        rows = self.structures[key].rows_of(page, column.payloads)
        return column.times[rows], extract(field, column.payloads[rows])

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
