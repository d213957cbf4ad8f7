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

from keel.hunt.candidates import MOST_CANDIDATES, SURELY_NOTHING, Candidate, Findings, chance_of_nothing, in_families
from keel.hunt.carriers import Carrier, exclusive_pairs, to_byte_end
from keel.hunt.scene import Traffic
from keel.hunt.states import State, states_of
from keel.model.fields import BitField
from keel.model.span import Span
from keel.model.units import NS_PER_S

EDGE_S = 0.75
"""A change counts as at a span's edge if it is no further from it: people mark late and early."""
ABOUT_S, NEARLY = 0.9, 0.85
"""Most changes are that near; of the rest most are this much further off."""
CORE_S = 0.5
EARLY_S, LATE_S = 0.25, 0.6
"""A movement counts as within a span so much before its start and after its end."""
SURE, UNSURE = 0.95, 0.05
LONGEST_CYCLE_S = 2.0
MISSED_NATS = 2.3
"""What an edge or a span costs at which nothing changed."""
EXTRA_NATS = 0.7
WITHIN_COST = 0.5
APART_S = 0.8
SHIFTS = 160
CONSIDERED = 40
LEAST_NATS = 1.5
LEAST_SURE, LEAST_SURE_OF_MANY = 3.0, 2.5
"""A fit of fewer nats is taken for chance, however rare it is: with one or two spans little proves anything."""
MANY_SPANS = 3

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
    pairs = exclusive_pairs(traffic.columns, traffic.structures)
    for carrier in traffic.carriers + pairs:
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
    best = apart(best)
    found = [
        (Candidate(c.key, _whole(traffic, c), nats, _why(state, marked), c.page, lag_s=_delay(state, marked)), c)
        for nats, state, c in best[:CONSIDERED]
        if nats >= LEAST_NATS
    ]
    nothing = _nothing(best[0][0] if best else -1e9, chance[1:], len(inside))
    if nothing > SURELY_NOTHING:
        found = []
    return Findings(evidence, nothing, tuple(in_families(found)[:MOST_CANDIDATES]), count, fields, traffic.notes)


def apart(best: list[tuple[float, State, Carrier]]) -> list[tuple[float, State, Carrier]]:
    """Without what shares bits with something better."""
    kept: list[tuple[float, State, Carrier]] = []
    taken: set[tuple[int, int | None, int]] = set()
    for one in best:
        bits = {(one[2].key, one[2].page, bit) for bit in one[2].field.bits}
        if taken.isdisjoint(bits):
            kept.append(one)
            taken |= bits
    return kept


def _whole(traffic: Traffic, carrier: Carrier) -> BitField:
    structure, column = traffic.structures[carrier.key], traffic.columns[carrier.key]
    return to_byte_end(structure, column, carrier.piece, carrier.field)


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
    return Marked(np.maximum(np.take_along_axis(starts, order, 1), 0.0), np.take_along_axis(ends, order, 1), length)


def weigh(state: State, marked: Marked) -> Floats:
    """Log likelihood ratio that a state follows the spans, for each shift; shape (shifts,)."""
    # What happens between two frames shows in the next: on average half a cycle late.
    late = min(state.cycle_s, LONGEST_CYCLE_S) / 2
    edges = np.concatenate([marked.starts, marked.ends], axis=1)
    at_edges = _near(state.turns - late, edges, EDGE_S + late, marked.length)
    as_long = at_edges + 0.5 * _level(state, marked, late)
    # Something may be so as long as the span lasts, or for some of it: a hand works the device between two marks.
    return np.maximum(_within(_told_apart(state.turns) - late, marked, late) - WITHIN_COST, as_long)


def _near(turns: Floats, edges: Floats, reach: float, length: float) -> Floats:
    """Changes near edges, or at least about them, against changes elsewhere."""
    edges = np.sort(edges, axis=1)
    near = _inside(turns, edges, reach)
    about = _inside(turns, edges, reach + ABOUT_S)
    shares = [_share_of(window, length) for _, *window in (near, about)]
    first = np.minimum(near[0], 1)
    second = np.minimum(about[0], 1) - first
    counted = first.sum(axis=1) * np.log(SURE * NEARLY / shares[0])
    ring = np.maximum(shares[1] - shares[0], 0.02)
    counted = counted + second.clip(0).sum(axis=1) * np.log(np.minimum(SURE * (1 - NEARLY) / ring, 1.0))
    elsewhere = len(turns) - about[0].sum(axis=1)
    extra = about[0].sum(axis=1) - np.minimum(about[0], 1).sum(axis=1)
    missed = (about[0] == 0).sum(axis=1)
    nats = counted + elsewhere * np.log(UNSURE / (1 - shares[1])) - MISSED_NATS * missed - EXTRA_NATS * extra
    return np.asarray(nats)


def _inside(turns: Floats, edges: Floats, reach: float) -> tuple[npt.NDArray[np.int64], Floats, Floats]:
    """How many changes lie within reach of each edge; windows that overlap are cut in the middle between edges."""
    low, high = edges - reach, edges + reach
    middle = (edges[:, 1:] + edges[:, :-1]) / 2
    low[:, 1:] = np.maximum(low[:, 1:], middle)
    high[:, :-1] = np.minimum(high[:, :-1], middle)
    return np.searchsorted(turns, high) - np.searchsorted(turns, low), low, high


def _share_of(window: list[Floats], length: float) -> Floats:
    return np.asarray(np.clip((window[1] - window[0]).sum(axis=1) / length, 0.02, 0.98))


def _told_apart(turns: Floats) -> Floats:
    """Changes without those that follow another at once: they say nothing more."""
    kept: list[float] = []
    for turn in turns.tolist():
        if not kept or turn - kept[-1] >= APART_S:
            kept.append(turn)
    return np.array(kept)


def _within(moves: Floats, marked: Marked, late: float) -> Floats:
    """Changes within spans against changes elsewhere."""
    low, high = marked.starts - EARLY_S - late, marked.ends + LATE_S + late
    low[:, 1:] = np.maximum(low[:, 1:], np.minimum(high[:, :-1], marked.starts[:, 1:]))
    high = np.maximum(high, low)
    inside = np.searchsorted(moves, high) - np.searchsorted(moves, low)
    covered = _share_of([low, high], marked.length)
    counted = np.minimum(inside, 2).sum(axis=1)
    nats = counted * np.log(SURE / covered) + (len(moves) - inside.sum(axis=1)) * np.log(UNSURE / (1 - covered))
    extra = inside.sum(axis=1) - counted
    return np.asarray(nats - MISSED_NATS * (inside == 0).sum(axis=1) - EXTRA_NATS * extra)


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


def _nothing(best: float, chance: Floats, spans: int) -> float:
    """How likely it is that nothing follows, from the best and from what moved marks reach."""
    middle = float(np.median(chance))
    width = max(float(np.quantile(chance, 0.9)) - middle, 1.5)
    least = middle + 1.6 * width
    surely = LEAST_SURE if spans < MANY_SPANS else LEAST_SURE_OF_MANY
    if least < surely:
        least, width = surely, min(width, 1.0)
    return chance_of_nothing(best, least, width)


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
    return (
        f"{state.words} in {spans} of {len(starts)} spans {where}"
        if not state.moving
        else (f"moves in {spans} of {len(starts)} spans {where}")
    )
