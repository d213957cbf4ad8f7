"""Lines of several wires, one of which is a clock: what a code of theirs is, and what all of them need."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import numpy.typing as npt

from keel.lines.code import Asked, Field, Guess, How
from keel.lines.pulses import window
from keel.model.frames import Times
from keel.model.units import frequency_words
from keel.model.waveform import Logic

ALIKE = 0.25
"""Periods one after another are alike where they differ by such a share."""
STEADY, FEWEST_PERIODS, SELDOM = 0.55, 6, 0.002
"""A wire is a clock where such a share of its periods is as long as the one before it. A frequency that has a smaller
share of the periods than the last of these is chance."""


@dataclass(frozen=True, eq=False)
class Wire:
    """A wire of a line: the name of its channel, what it is (empty: not known yet), its levels."""

    name: str
    role: str
    logic: Logic


Wires = Sequence[Wire]
ReadTogether = Callable[[Wires, Asked], list[Guess]]
ExplainTogether = Callable[[Wires, How, int, int, int], list[Field]]
"""Of wires as they were read, begin and end of a frame in ns, and its form: the frame's fields, in order."""


@dataclass(frozen=True)
class ClockedCode:
    """A line code of several wires.

    Attributes:
        word: As commands have it.
        title: What it is.
        roles: What its channels may be, the clock first.
        names: By role, what people call such a channel.
        over: The roles over whose wires frames are drawn, and the form of those that are; None for all.
        read: The ways to read wires whose roles are known; the best first, or none.
        explain: The fields of a frame.
        taken_by: The level to which the clock changes where data is taken.
        takes: Settings by name, and the values they take in words.
    """

    word: str
    title: str
    roles: tuple[str, ...]
    names: Mapping[str, tuple[str, ...]]
    over: Mapping[str, int | None]
    read: ReadTogether
    explain: ExplainTogether
    taken_by: Callable[[How], int]
    takes: Mapping[str, str] = field(default_factory=dict)
    carries_bytes: bool = True


def wire(wires: Wires, role: str) -> Logic | None:
    """The levels of the wire that has a role; None if there is none."""
    return next((one.logic for one in wires if one.role == role), None)


def known_stretches(wires: Wires, steering: Collection[str] = ("clock", "select")) -> Iterator[list[Wire]]:
    """The spans in which the levels of the wires that steer are known, each as wires of its own.

    Data that nobody drives while nothing is selected cuts nothing; see `unknown_at`.

    Args:
        wires: Of a line.
        steering: The roles of those that tell when a transfer begins and when a bit is taken.
    """
    start, end = max(one.logic.start for one in wires), min(one.logic.end for one in wires)
    gaps = sorted(gap for one in wires if one.role in steering for gap in one.logic.unknown)
    begin = start
    for low, high in (*gaps, (end, end)):
        if low > begin:
            until = min(low, end)
            yield [
                replace(one, logic=one.logic.part(begin, until) if one.role in steering
                        else window(one.logic, begin, until))
                for one in wires
            ]  # fmt: skip
        begin = max(begin, high)


def unknown_at(logic: Logic, times: Times) -> npt.NDArray[np.bool_]:
    """Whether the level of a wire just before some moments is not known; shape as ``times``."""
    if not logic.unknown:
        return np.zeros(len(times), np.bool_)
    begins, ends = np.array(logic.unknown, np.int64).T
    place = np.searchsorted(begins, times, side="left") - 1
    lost: npt.NDArray[np.bool_] = (place >= 0) & (times <= ends[np.maximum(place, 0)])
    return lost


def known_edges(logic: Logic) -> Times:
    """The edges of a wire between two levels that are known."""
    if not logic.unknown:
        return logic.edges
    ends = np.array([end for _, end in logic.unknown], np.int64)
    return logic.edges[~np.isin(logic.edges, ends)]


def over(wires: Wires, begin: int, end: int) -> list[Wire]:
    """What wires do from one moment to another."""
    return [replace(one, logic=window(one.logic, begin, end)) for one in wires]


def edges_to(logic: Logic, level: int) -> Times:
    """When a wire changes to a level; of a known stretch."""
    return logic.edges[int(logic.first == level) :: 2]


def levels_before(logic: Logic, times: Times) -> npt.NDArray[np.uint8]:
    """The levels of a wire just before some moments; of a known stretch, shape as ``times``."""
    return ((logic.first + np.searchsorted(logic.edges, times, side="left")) & 1).astype(np.uint8)


def periods(clock: Logic) -> npt.NDArray[np.float64]:
    """How long each period takes that is about as long as the one before it, in ns."""
    each = np.diff(edges_to(clock, 1)).astype(np.float64)
    if len(each) < 2:
        return each
    return each[1:][np.abs(each[1:] - each[:-1]) < ALIKE * each[:-1]]


def is_clock(logic: Logic) -> bool:
    """Whether a wire goes up and down steadily, for some periods at a time."""
    rises = len(logic.edges) // 2
    return rises > FEWEST_PERIODS and len(periods(logic)) >= STEADY * (rises - 1)


def frequency(clock: Logic) -> float:
    """The frequency of a clock, of most of its periods; 0 where there are too few."""
    each = periods(clock)
    return 1e9 / float(np.median(each)) if len(each) else 0.0


def clock_words(clock: Logic) -> tuple[str, ...]:
    """What is to be said of a clock that changes; nothing of one that does not."""
    each = np.sort(periods(clock))
    if not len(each):
        return ()
    # Frequencies that differ by more than a quarter are others; what is seldom is chance.
    groups = np.split(each, np.flatnonzero(each[1:] > (1 + ALIKE) * each[:-1]) + 1)
    fewest = max(FEWEST_PERIODS, SELDOM * len(each))
    usual = [frequency_words(1e9 / float(np.median(one))) for one in groups if len(one) >= fewest]
    return (f"the clock changes: {', '.join(usual[::-1])}",) if len(usual) > 1 else ()


def clocked_share(clock: Logic, starts: Times, ends: Times) -> float:
    """The share of a clock's edges that lie in some frames: of the time in which it goes.

    Args:
        clock: The clock.
        starts, ends: Begin and end of each frame in ns, shape (n,).
    """
    edges = np.concatenate([part.edges for part in clock.stretches()] or [np.zeros(0, np.int64)])
    if not len(edges):
        return 0.0
    begun = np.searchsorted(np.sort(starts), edges, side="right")
    ended = np.searchsorted(np.sort(ends), edges, side="left")
    return float((begun > ended).mean())
