"""Fields as states that come and go: what evidence without numbers, like marks, is held against.

A flag is a state already. A number of few values is one state for each of them; one of many is told by whether it
is away from where it rests, or in the upper half of its range; and whether it moves at all is a state, too.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from keel.hunt.carriers import Carrier
from keel.model.frames import Times
from keel.model.units import NS_PER_S

FEW_VALUES = 16
STILL_S = 0.4
"""Changes no further apart than this are one movement."""
MOST_TURNS = 3000
"""What comes and goes more often than this in a recording is nobody's doing."""

Floats = npt.NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class State:
    """Something that is so or not.

    Attributes:
        carrier: The field.
        words: What is so, as ``is 3``.
        turns: When it comes or goes, seconds from the start of the traffic, ascending, shape (m,).
        first: Whether it is so at the start.
        moving: Whether it says that the field moves, rather than what it holds.
    """

    carrier: Carrier
    words: str
    turns: Floats
    first: bool
    moving: bool = False

    @property
    def cycle_s(self) -> float:
        """The usual time from one frame to the next."""
        return self.carrier.cycle_s

    def held_until(self, moments: Floats, end: float) -> Floats:
        """For how many seconds it has been so up to some moments; same shape."""
        turns = np.concatenate([[0.0], self.turns, [max(end, float(self.turns[-1]) if len(self.turns) else 0.0)]])
        so = (np.arange(len(turns) - 1) % 2 == 0) == self.first
        held = np.concatenate([[0.0], np.cumsum(np.diff(turns) * so)])
        return np.asarray(np.interp(moments, turns, held))


def states_of(carrier: Carrier, start: int) -> list[State]:
    """The states of a field.

    Args:
        carrier: The field.
        start: The start of the traffic, in ns since 1970.
    """
    changes = carrier.changes
    if not len(changes) or len(changes) > MOST_TURNS * 20:
        return []
    found: list[State] = []

    def add(words: str, so: npt.NDArray[np.bool_]) -> None:
        turns = np.flatnonzero(so[1:] != so[:-1]) + 1
        if 0 < len(turns) <= MOST_TURNS:
            found.append(State(carrier, words, _seconds(carrier.times[turns], start), bool(so[0])))

    values, counts = np.unique(carrier.raw, return_counts=True)
    rest = int(values[counts.argmax()])
    if len(values) <= FEW_VALUES:
        if len(values) > 2:
            add(f"is not {rest}", carrier.raw != rest)
        # The rarest first: of two that say the same, what is special is told.
        for value in values[np.argsort(counts, kind="stable")].tolist():
            add(f"is {value}", carrier.raw == value)
    else:
        if counts.max() >= 0.2 * len(carrier.raw):
            add(f"is not {rest}", carrier.raw != rest)
        middle = (int(values[0]) + int(values[-1])) / 2
        add(f"is over {middle:g}", carrier.raw > middle)
    if len(values) > 2:
        moves = _seconds(carrier.times[changes], start)
        breaks = np.flatnonzero(np.diff(moves) > STILL_S)
        begins, ends = np.concatenate([[0], breaks + 1]), np.concatenate([breaks, [len(moves) - 1]])
        if len(begins) <= MOST_TURNS:
            turns = np.stack([moves[begins], moves[ends] + 1e-3], axis=1).ravel()
            found.append(State(carrier, "moves", turns, False, True))
    return found


def _seconds(times: Times, start: int) -> Floats:
    return np.asarray((times - start) / NS_PER_S, np.float64)
