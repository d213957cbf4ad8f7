"""The traffic a hunt searches: columns by identifier, what they are made of, and the fields in them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from dataclasses import field as dataclass_field

import numpy as np
import numpy.typing as npt

from keel.hunt.carriers import Carrier, carriers_of
from keel.hunt.columns import WIDEST, Column
from keel.hunt.headers import header_carriers
from keel.hunt.structure import Structure, structures_of
from keel.model.fields import BitField, extract
from keel.model.frames import Times


@dataclass(frozen=True, eq=False)
class Traffic:
    """What is searched. It is worked out once and serves every kind of evidence."""

    columns: dict[int, Column]
    structures: dict[int, Structure]
    carriers: list[Carrier]
    headers: dict[int, dict[str, Carrier]] = dataclass_field(default_factory=dict)

    def values(
        self, key: int, field: BitField, page: int | None = None, header: str = ""
    ) -> tuple[Times, npt.NDArray[np.int64]]:
        """When a field was sent, in ns since 1970, and its raw values; both shape (n,).

        ``header`` names the field if it is one of the header.
        """
        if header:
            return self.headers[key][header].times, self.headers[key][header].raw
        column = self.columns[key]
        rows = self.structures[key].rows_of(page, column.payloads)
        return column.times[rows], extract(field, column.payloads[rows])

    @property
    def notes(self) -> tuple[str, ...]:
        """What was left out, in sentences."""
        said = []
        if thinned := [c.every for c in self.columns.values() if c.every > 1]:
            of = f"of {len(thinned)} identifiers not every frame was looked at"
            said.append(f"{of}: of the most frequent each {max(thinned)}th")
        if long := sum(c.length > WIDEST for c in self.columns.values()):
            said.append(f"of {long} identifiers with longer payloads only the first {WIDEST} bytes were looked at")
        return tuple(said)

    @classmethod
    def of(cls, columns: dict[int, Column], cancelled: Callable[[], bool] = lambda: False) -> Traffic:
        """Work out the structure of some columns."""
        structures = structures_of(columns, cancelled)
        headers = header_carriers(columns)
        of_headers = [carrier for named in headers.values() for carrier in named.values()]
        return cls(columns, structures, carriers_of(columns, structures) + of_headers, headers)
