"""Fields as states that come and go: what evidence without numbers, like marks, is held against.

A flag is a state already. A number of few values is one state for each of them; one of many is told by whether it
is away from where it rests, or in the upper half of its range. Whether it moves at all is a state, too, and so is
whether an identifier is sent.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
import numpy.typing as npt

from keel.hunt.carriers import Carrier
from keel.model.frames import Times
from keel.model.units import NS_PER_S

FEW_VALUES = 16
STILL_S = 0.4
"""Changes no further apart than this are one movement."""
SILENT_S = (0.5, 3.0)
"""An identifier is sent until it is silent for three of its usual cycles, within these bounds."""
MOST_TURNS = 3000
"""What comes and goes more often than this in a recording is nobody's doing."""
A_THRESHOLD, A_MOVEMENT = 2.5, 2.5
"""What is said of a quantity costs so many nats beside what is said of a switch: it follows one."""
ONE_VALUE = 0.5

Floats = npt.NDArray[np.float64]
Kind = Literal["level", "changes", "moves", "sent"]


@dataclass(frozen=True, eq=False)
class State:
    """Something that is so or not.

    Attributes:
        carrier: The field.
        words: What is so, as ``is 3``.
        turns: When it comes or goes, seconds from the start of the traffic, ascending, shape (m,). Of ``changes``
            each is a change of its own.
        first: Whether it is so at the start.
        kind: Whether it says what the field holds, that it changes, that it moves, or that its frames are sent.
        cost: How much less likely it is than a switch, in nats, before anything is seen.
        mirrors: Whether it is the opposite of another one, and so turns when that does.
    """

    carrier: Carrier
    words: str
    turns: Floats
    first: bool
    kind: Kind = "level"
    cost: float = 0.0
    mirrors: bool = False

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

    def add(words: str, so: npt.NDArray[np.bool_], cost: float = 0.0) -> None:
        turns = np.flatnonzero(so[1:] != so[:-1]) + 1
        if 0 < len(turns) <= MOST_TURNS:
            found.append(State(carrier, words, _seconds(carrier.times[turns], start), bool(so[0]), cost=cost))

    values, counts = np.unique(carrier.raw, return_counts=True)
    rest = int(values[counts.argmax()])
    if len(values) <= FEW_VALUES:
        if len(values) > 2:
            add(f"is not {rest}", carrier.raw != rest)
        # The rarest first: of two that say the same, what is special is told.
        for value in values[np.argsort(counts, kind="stable")].tolist():
            add(f"is {value}", carrier.raw == value, ONE_VALUE if len(values) > 2 else 0.0)
        if len(values) == 2 and len(found) == 2:
            found[1] = replace(found[1], mirrors=True)
        if len(values) > 2 and len(changes) <= MOST_TURNS:
            found.append(State(carrier, "changes", _seconds(carrier.times[changes], start), False, "changes"))
        return found
    if counts.max() >= 0.2 * len(carrier.raw):
        add(f"is not {rest}", carrier.raw != rest, A_THRESHOLD)
    middle = (int(values[0]) + int(values[-1])) / 2
    add(f"is over {middle:g}", carrier.raw > middle, A_THRESHOLD)
    turns = episodes(_seconds(carrier.times[changes], start), STILL_S)
    if len(turns) <= MOST_TURNS:
        found.append(State(carrier, "moves", turns, False, "moves", A_MOVEMENT))
    return found


def sending(carrier: Carrier, start: int) -> State | None:
    """Whether an identifier is sent; None where it always is."""
    seconds = _seconds(carrier.times, start)
    usual = 3 * float(np.median(np.diff(seconds))) if len(seconds) > 1 else 0.0
    turns = episodes(seconds, float(np.clip(usual, *SILENT_S)))
    if len(turns) > MOST_TURNS:
        return None
    return State(carrier, "is sent", turns, False, "sent")


def episodes(moments: Floats, apart_s: float) -> Floats:
    """Where runs of moments begin and end that are no further apart than that; begin and end by turns."""
    breaks = np.flatnonzero(np.diff(moments) > apart_s)
    begins, ends = np.concatenate([[0], breaks + 1]), np.concatenate([breaks, [len(moments) - 1]])
    return np.stack([moments[begins], moments[ends] + 1e-3], axis=1).ravel()


def _seconds(times: Times, start: int) -> Floats:
    return np.asarray((times - start) / NS_PER_S, np.float64)
