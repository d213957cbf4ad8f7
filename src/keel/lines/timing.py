"""When edges come against when their line's code has them: how far each may be off before it is read wrongly.

A reader sets its clock by certain edges, and takes every bit at a point of it. An edge that comes later than that
point, or so early that the bit before is taken behind it, makes a wrong bit.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from keel.model.frames import Times
from keel.model.waveform import Logic

Floats = npt.NDArray[np.float64]
MOST_BITS = 16
"""Pulses of more bits are pauses."""


@dataclass(frozen=True, eq=False)
class Pulses:
    """Pulses from one edge to the next, and how far the second is from where it should be; all of shape (n,).

    Attributes:
        begins, ends: In ns.
        bits: How many bits each lasts.
        unit: How long a bit is there, in ns.
        off: By how much the edge that ends it is late, in ns; before its time below 0.
        early, late: By how much it may be off either way, in ns.
    """

    begins: Times
    ends: Times
    bits: Floats
    unit: Floats
    off: Floats
    early: Floats
    late: Floats

    def __len__(self) -> int:
        return len(self.begins)

    @property
    def left(self) -> Floats:
        """What is left of what each edge may be off, from 1 (none is used) to 0 (it is read wrongly), or below."""
        return 1 - np.where(self.off >= 0, self.off / self.late, -self.off / self.early)


def pulses(edges: Times, references: Times, unit: Any, early: float, late: float, longest: int = MOST_BITS) -> Pulses:
    """Pulses between edges of which each is measured from the last reference before it.

    Args:
        edges: In ns, shape (n + 1,).
        references: When the reader sets its clock, ascending, in ns.
        unit: How long a bit is, in ns; a number, or shape (n,).
        early, late: By what part of a bit an edge may be off.
        longest: Pulses of more bits are pauses.
    """
    begins, ends = edges[:-1], edges[1:]
    units = np.broadcast_to(np.asarray(unit, np.float64), begins.shape)
    place = np.searchsorted(references, begins, side="right") - 1
    from_there = ends - np.where(place >= 0, references[np.maximum(place, 0)] if len(references) else 0, begins)
    bits = np.maximum(np.rint((ends - begins) / units), 1)
    off = from_there - np.rint(from_there / units) * units
    kept = bits <= longest
    found = Pulses(begins, ends, bits, units, off, early * units, late * units)
    return taken(found, kept)


def taken(found: Pulses, which: Any) -> Pulses:
    """Some of the pulses."""
    return Pulses(*(getattr(found, name)[which] for name in Pulses.__dataclass_fields__))


def joined(parts: Sequence[Pulses]) -> Pulses | None:
    """Pulses one after another; None without any."""
    if not parts:
        return None
    return Pulses(*(np.concatenate([getattr(one, name) for one in parts]) for name in Pulses.__dataclass_fields__))


def falls_of(logic: Logic) -> Times:
    """Edges that fall."""
    return logic.edges[int(logic.first == 0) :: 2]


def inside(logic: Logic, begin: int, end: int) -> Times:
    """The edges of a line from a moment to another one, both included."""
    low, high = np.searchsorted(logic.edges, [begin, end + 1]).tolist()
    return logic.edges[low:high]
