"""What follows the marks? Fields that change when a person did something, and at no other time.

A person marks a span some tenths of a second early or late. A field that carries what was operated changes about
where the spans begin and end, nowhere else, and holds something else within the spans than without. Each of these is
weighed as evidence: how much likelier is what the field does if it follows the marks, than if it went its own way?

Whether anything follows at all is told by moving the marks round the recording a few hundred times: a recording of
thousands of bits always holds one that fits somehow, and this says how well such a one fits by chance.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from keel.hunt.candidates import MOST_CANDIDATES, SURELY_NOTHING, Candidate, Findings, in_families
from keel.hunt.carriers import Carrier
from keel.hunt.scene import Traffic
from keel.hunt.states import State, states_of
from keel.model.span import Span
from keel.model.units import NS_PER_S

EDGE_S = 0.75
"""A change counts as at a span's edge if it is no further from it: people mark late and early."""
CORE_S = 0.5
EARLY_S, LATE_S = 0.6, 0.9
"""A movement counts as within a span so much before its start and after its end."""
SURE, UNSURE = 0.95, 0.05
LONGEST_CYCLE_S = 2.0
MISSED_NATS = 2.3
"""What an edge or a span costs at which nothing changed."""
MOVING_COST = 1.0
SHIFTS = 160
CONSIDERED = 40
LEAST_NATS = 1.5

Floats = npt.NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Marked:
    """Spans, moved by some shifts round the recording; the first shift is 0.

    Attributes:
        starts, ends: Seconds from the start of the traffic, shape (shifts, spans), ascending in each row.
        length: Seconds of traffic.
    """

    starts: Floats
    ends: Floats
    length: float


def follow_marks(traffic: Traffic, spans: list[Span], cancelled: Callable[[], bool] = lambda: False) -> Findings:
    """Fields that change with the spans.

    Args:
        traffic: The frames, and their structure.
        spans: When something was done.
        cancelled: Looked at now and then; when true the search ends with what it has.
    """
    count = len(traffic.columns)
    evidence = f"{len(spans)} marked span{'s' if len(spans) != 1 else ''}"
    times = [c.times for c in traffic.columns.values() if len(c.times) > 1]
    fields = len(traffic.carriers)
    if not spans or not times:
        return Findings(evidence, 1.0, (), count, fields, ("there are no marks to follow",))
    start, end = min(int(t[0]) for t in times), max(int(t[-1]) for t in times)
    inside = [s for s in sorted(spans) if s.end > start and s.start < end]
    if not inside:
        return Findings(evidence, 1.0, (), count, fields, ("no mark lies where there are frames",))
    marked = moved_round(inside, start, end)
    best: list[tuple[float, State, Carrier]] = []
    chance = np.full(marked.starts.shape[0], -1e9)
    for carrier in traffic.carriers:
        if cancelled():
            break
        nats = -1e9
        chosen: State | None = None
        for state in states_of(carrier, start):
            scores = weigh(state, marked)
            chance = np.maximum(chance, scores)
            if scores[0] > nats:
                nats, chosen = float(scores[0]), state
        if chosen is not None:
            best.append((nats, chosen, carrier))
    best.sort(key=lambda one: -one[0])
    found = [
        (Candidate(c.key, c.field, nats, _why(state, marked), c.page, lag_s=_delay(state, marked)), c)
        for nats, state, c in best[:CONSIDERED]
        if nats >= LEAST_NATS
    ]
    nothing = _nothing(best[0][0] if best else -1e9, chance[1:])
    if nothing > SURELY_NOTHING:
        found = []
    return Findings(evidence, nothing, tuple(in_families(found)[:MOST_CANDIDATES]), count, fields)


def moved_round(spans: list[Span], start: int, end: int) -> Marked:
    """The spans as they are, and moved round the recording."""
    length = (end - start) / NS_PER_S
    low = np.array([(s.start - start) / NS_PER_S for s in spans])
    high = np.array([(s.end - start) / NS_PER_S for s in spans])
    least = min(max(2.0, float((high - low).mean())), length / 4)
    shifts = np.concatenate([[0.0], np.linspace(least, length - least, SHIFTS)])
    starts = low[None, :] + shifts[:, None]
    over = np.floor(starts / length) * length
    starts = starts - over
    ends = np.minimum(high[None, :] + shifts[:, None] - over, length)
    order = np.argsort(starts, axis=1)
    return Marked(
        np.maximum(np.take_along_axis(starts, order, 1), 0.0), np.take_along_axis(ends, order, 1), length
    )


def weigh(state: State, marked: Marked) -> Floats:
    """Log likelihood ratio that a state follows the spans, for each shift; shape (shifts,)."""
    # What happens between two frames shows in the next: on average half a cycle late.
    late = min(state.cycle_s, LONGEST_CYCLE_S) / 2
    if state.moving:
        return _within(state.turns[::2] - late, marked, late) - MOVING_COST
    edges = np.concatenate([marked.starts, marked.ends], axis=1)
    at_edges = _near(state.turns - late, edges, EDGE_S + late, marked.length)
    return at_edges + 0.5 * _level(state, marked, late)


def _near(turns: Floats, edges: Floats, reach: float, length: float) -> Floats:
    """Changes near edges against changes elsewhere."""
    edges = np.sort(edges, axis=1)
    low, high = edges - reach, edges + reach
    # Windows that overlap are cut in the middle between their edges.
    middle = (edges[:, 1:] + edges[:, :-1]) / 2
    low[:, 1:] = np.maximum(low[:, 1:], middle)
    high[:, :-1] = np.minimum(high[:, :-1], middle)
    return _counted(turns, low, high, length, 1)


def _within(moves: Floats, marked: Marked, late: float) -> Floats:
    """Movements within spans against movements elsewhere."""
    low, high = marked.starts - EARLY_S - late, marked.ends + LATE_S + late
    low[:, 1:] = np.maximum(low[:, 1:], np.minimum(high[:, :-1], marked.starts[:, 1:]))
    return _counted(moves, low, np.maximum(high, low), marked.length, 2)


def _counted(turns: Floats, low: Floats, high: Floats, length: float, most: int) -> Floats:
    inside = np.searchsorted(turns, high) - np.searchsorted(turns, low)
    covered = np.clip((high - low).sum(axis=1) / length, 0.02, 0.98)
    counted = np.minimum(inside, most).sum(axis=1)
    extra = inside.sum(axis=1) - counted
    elsewhere = len(turns) - inside.sum(axis=1)
    missed = (inside == 0).sum(axis=1)
    nats = counted * np.log(SURE / covered) + elsewhere * np.log(UNSURE / (1 - covered))
    return np.asarray(nats - MISSED_NATS * missed - 0.7 * extra)


def _level(state: State, marked: Marked, late: float) -> Floats:
    """What the state is inside spans against what it is outside."""
    middle = (marked.starts + marked.ends) / 2
    half = np.maximum((marked.ends - marked.starts) / 2 - CORE_S - late, 0.1)
    middle = middle + late
    inside = _share(state, middle - half, middle + half, marked.length)
    zeros, full = np.zeros((len(middle), 1)), np.full((len(middle), 1), marked.length)
    low = np.concatenate([zeros, marked.ends + CORE_S + 2 * late], axis=1)
    high = np.concatenate([np.maximum(marked.starts - CORE_S, 0), full], axis=1)
    there = high > low + 0.1
    outside = _share(state, low, np.maximum(high, low + 0.1), marked.length)
    usual = float(state.held_until(np.array([marked.length]), marked.length)[0]) / marked.length
    usual = float(np.clip(usual, 0.02, 0.98))
    yes, no = np.log(SURE / usual), np.log(UNSURE / (1 - usual))
    back, wrong = np.log(SURE / (1 - usual)), np.log(UNSURE / usual)
    spans = (inside * yes + (1 - inside) * no).sum(axis=1)
    gaps = (there * ((1 - outside) * back + outside * wrong)).sum(axis=1)
    return np.asarray(spans + gaps)


def _share(state: State, low: Floats, high: Floats, length: float) -> Floats:
    held = state.held_until(high, length) - state.held_until(low, length)
    return np.asarray(np.clip(held / np.maximum(high - low, 1e-9), 0, 1))


def _nothing(best: float, chance: Floats) -> float:
    """How likely it is that nothing follows, from the best and from what moved marks reach."""
    middle = float(np.median(chance))
    width = max(float(np.quantile(chance, 0.9)) - middle, 1.5)
    return float(1 / (1 + np.exp(np.clip((best - middle - 1.6 * width) / (0.35 * width), -50, 50))))


def _delay(state: State, marked: Marked) -> float:
    """The median time from a span's start to the first change about it."""
    delays = []
    for start, end in zip(marked.starts[0], marked.ends[0], strict=True):
        at = int(np.searchsorted(state.turns, start - EARLY_S))
        if at < len(state.turns) and state.turns[at] < end + LATE_S + state.cycle_s:
            delays.append(float(state.turns[at] - start))
    return float(np.median(delays)) if delays else 0.0


def _why(state: State, marked: Marked) -> str:
    starts, ends = marked.starts[0], marked.ends[0]
    turns = state.turns[::2] if state.moving else state.turns
    hit = np.zeros(len(turns), np.bool_)
    spans = 0
    for start, end in zip(starts, ends, strict=True):
        mine = (turns >= start - EARLY_S) & (turns < end + LATE_S + state.cycle_s)
        hit |= mine
        spans += bool(mine.any())
    where = "and nowhere else" if hit.all() else f"({hit.mean():.0%} of its changes)"
    return f"{state.words} in {spans} of {len(starts)} spans {where}" if not state.moving else (
        f"moves in {spans} of {len(starts)} spans {where}"
    )
