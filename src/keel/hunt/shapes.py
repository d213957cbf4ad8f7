"""What a press can do to a field, and how well a field does it at the marks.

A person marks a span some tenths of a second early or late. Held, a state is so from about the span's start to about
its end; a flip is one turn about the span that stays; a step is the next value; a pulse comes and goes somewhere in
it; a quantity moves; frames are sent only then. How often a field does such a thing anywhere else says how little
it proves that it does so at the marks: what it does at each mark is weighed against that.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import numpy as np
import numpy.typing as npt

from keel.hunt.placements import EDGE_S, Marked
from keel.hunt.states import State

Shape = Literal["hold", "flip", "step", "pulse", "move", "frames"]
LONGEST_CYCLE_S = 2.0
SURE = 0.93
"""How often a carrier does it at a mark: a person forgets to press, or presses twice."""
CORE_HELD = 0.75
MOST_BOUNCES = 6
COSTS: dict[Shape, float] = {"hold": 0.0, "flip": 0.3, "step": 0.3, "pulse": 0.8, "move": 0.0, "frames": 0.5}
"""In nats, before anything is seen."""
ANYWHEN, AT_RELEASE = 0.5, 0.4
"""What it costs that a flip comes at no set moment, or when the press ends."""
ALONG = 0.5
"""What it costs that a movement begins and ends with the span."""
LONG_S, A_TAP_S = 1.0, 2.5
"""In a span longer than the first a press has a beginning and an end; in one longer than the second nothing flips in
the midst of it."""
TWICE = 2.0
"""What comes does not go quite independently."""
MOST_OFTEN = 0.9
"""What is done elsewhere more often than that says nothing, whether it is done at the marks or not."""
RESTLESS = 5.0
"""What turns so often within a span as a rule is not looked at."""

Floats = npt.NDArray[np.float64]
Hits = npt.NDArray[np.bool_]
Ints = npt.NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Fit:
    """How well a state does something at the marks.

    Attributes:
        scores: Log likelihood ratio of each place of the marks, in nats; shape (places,), the first where they are.
        hits: At which of the marks it does it, shape (spans,).
        by_chance: Share of spans anywhere at which it does it.
    """

    state: State
    shape: Shape
    scores: Floats
    hits: npt.NDArray[np.bool_]
    by_chance: float

    @property
    def nats(self) -> float:
        """The score where the marks are."""
        return float(self.scores[0])

    @property
    def each(self) -> float:
        """What one more mark at which it does it would add, in nats."""
        return float(np.log(SURE / min(self.by_chance, SURE)))


def turns_at(state: State, marked: Marked) -> bool:
    """Whether a state turns now and then at half of the marks or more: only then is it worth a closer look."""
    first = np.searchsorted(state.turns, marked.earliest[0])
    turns = np.searchsorted(state.turns, marked.latest[0] + min(state.cycle_s, LONGEST_CYCLE_S)) - first
    return bool(2 * np.count_nonzero((turns > 0) & (turns <= MOST_BOUNCES)) >= marked.count)


def fits_of(state: State, marked: Marked) -> list[Fit]:
    """All that a state may do at the marks."""
    late = 0.0 if state.kind == "sent" else min(state.cycle_s, LONGEST_CYCLE_S)
    usual = float((marked.ends[0] - marked.starts[0]).mean()) + 2 * EDGE_S + late
    if len(state.turns) * usual / max(marked.length, usual) > RESTLESS:
        return []
    seen = _Seen(state, marked, late)
    return [_fit(state, marked, *pattern) for pattern in _patterns(seen) if pattern[1].any()]


@dataclass(frozen=True, eq=False)
class _Seen:
    """A state at the spans of each place of the marks.

    Attributes:
        late: How much later than it happened a frame may say it, in seconds.
    """

    state: State
    marked: Marked
    late: float

    @cached_property
    def first(self) -> Ints:
        """The turn after which each span begins, for somebody who marks late; shape (places, spans)."""
        return np.searchsorted(self.state.turns, self.marked.earliest)

    @cached_property
    def last(self) -> Ints:
        """The turn with which each span is over, for somebody who marks early."""
        return np.searchsorted(self.state.turns, self.marked.latest + self.late)

    @cached_property
    def turns(self) -> Ints:
        """How many turns lie about each span."""
        return self.last - self.first

    @cached_property
    def so_before(self) -> Hits:
        """Whether it is so before each span."""
        return np.asarray((self.first % 2 == 0) == self.state.first)

    @cached_property
    def comes_and_goes(self) -> Hits:
        """Whether it comes and goes about each span."""
        turns = self.turns
        return np.asarray(~self.so_before & (turns >= 2) & (turns % 2 == 0) & (turns <= MOST_BOUNCES))

    @cached_property
    def all_along(self) -> Hits:
        """Whether it comes with each span, goes with it, and is so between."""
        low = self.marked.starts + EDGE_S + self.late
        high = np.maximum(self.marked.ends - EDGE_S, low)
        length = self.marked.length
        held = self.state.held_until(high, length) - self.state.held_until(low, length)
        return np.asarray(self.comes_and_goes & (held >= CORE_HELD * (high - low)))

    @cached_property
    def per_second(self) -> float:
        """How often it turns, over all of the traffic."""
        return (len(self.state.turns) + 0.5) / max(self.marked.length, 1.0)


def _patterns(seen: _Seen) -> Iterator[tuple[Shape, Hits, float, float]]:
    """Each thing it may do, whether it does so at each span of each place (places, spans), what that costs, and how
    often it would be so by how often it turns."""
    state, marked, turns, late = seen.state, seen.marked, seen.turns, seen.late
    edge_s = 2 * EDGE_S + late
    lengths = marked.ends[0] - marked.starts[0]
    span_s = float(lengths.mean()) + edge_s
    rate = seen.per_second
    if state.kind == "moves":
        yield "move", ~seen.so_before & (turns >= 1), COSTS["move"], rate / 2 * span_s
        yield "move", seen.all_along, COSTS["move"] + ALONG, TWICE * (rate * edge_s) ** 2
        return
    if state.kind == "sent":
        yield "frames", seen.so_before | (turns >= 1), COSTS["frames"] + ANYWHEN, rate / 2 * span_s
        begun = np.searchsorted(state.turns[::2], marked.starts + EDGE_S) - (seen.first + 1) // 2
        yield "frames", ~seen.so_before & (begun >= 1), COSTS["frames"], rate / 2 * edge_s
        return
    flip: Shape = "step" if state.kind == "changes" else "flip"
    if flip == "flip":
        yield "hold", seen.all_along, COSTS["hold"], TWICE * (rate * edge_s) ** 2
        if float(lengths.max()) > 2 * EDGE_S + late:
            yield "pulse", seen.comes_and_goes, COSTS["pulse"], rate / 2 * span_s
    if state.mirrors:
        return
    if float(lengths.mean()) <= A_TAP_S:
        done = (turns == 1) | (turns == (2 if flip == "step" else 3))
        yield flip, done, COSTS[flip] + ANYWHEN, rate * span_s
    if float(lengths.max()) > LONG_S:
        # What happens at the press, or when it is let go, does so each time.
        press = np.searchsorted(state.turns, marked.starts + EDGE_S + late) - seen.first
        release = seen.last - np.searchsorted(state.turns, marked.ends - EDGE_S)
        yield flip, (press == 1) & (turns == 1), COSTS[flip], rate * edge_s
        yield flip, (release == 1) & (turns == 1), COSTS[flip] + AT_RELEASE, rate * edge_s


def _fit(state: State, marked: Marked, shape: Shape, hits: Hits, cost: float, expected: float) -> Fit:
    """Weigh what it does at each place by how often it does it elsewhere."""
    chance = np.minimum(marked.rate(hits, min(expected, MOST_OFTEN)), MOST_OFTEN)
    done = hits.sum(axis=1)
    scores = done * np.log(SURE / chance) + (hits.shape[1] - done) * np.log((1 - SURE) / (1 - chance))
    return Fit(state, shape, np.asarray(scores - cost - state.cost), hits[0], float(chance[0]))
