"""What follows the marks? Fields that do something when a person did, and seldom otherwise.

Everything a field may do at a press is tried (`shapes`), at the marks and at some hundreds of places elsewhere
(`placements`): a recording of thousands of bits always holds one that fits somehow, and this says how well such a
one fits by chance. Carriers made up for the same marks say whether a real one would have shown (`verdict`).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace

import numpy as np

from keel.hunt.candidates import Candidate, Findings, in_families, unheard, worth_naming
from keel.hunt.carriers import (
    SMALL,
    Carrier,
    exclusive_pairs,
    single_bits,
    stepping_together,
    to_byte_end,
    whole_payloads,
)
from keel.hunt.imagined import imagined_scores
from keel.hunt.placements import EDGE_S, Marked, placed
from keel.hunt.shapes import Fit, Shape, fits_of, turns_at
from keel.hunt.states import sending, states_of
from keel.hunt.traffic import Traffic
from keel.hunt.verdict import Judged, judge
from keel.model.fields import BitField
from keel.model.span import Span
from keel.model.units import NS_PER_S

CONSIDERED = 40
LEAST_NATS = 1.0
LEAST_SURE = 3.0
"""A fit of fewer nats is not called found, however rare it is: with one span little proves anything."""
BETTER_BIT, OF_A_STATE = 1.0, 4.0
"""A single bit of a number is named only where it fits better than the number by so much, and one of a state of few
bits by more."""
OF_A_NUMBER = 2.0
"""A bit of a number turns by itself now and then: what it costs beside a flag that stands alone, in nats."""
TOGETHER = 1.0
"""What it says for neighbours that they change together, beside each of them alone."""
MOST_MORE = 6
ITS_OWN, ITS_FIELD_S, SEVERAL = 0.08, 0.01, 3
NEARLY_AS_GOOD = 2.0
SHORT_S = 2.0

DOES: dict[Shape, str] = {
    "hold": "{words} as long as it is held",
    "flip": "each press flips it",
    "step": "each press takes it to another value",
    "pulse": "{words} for a moment at each press",
    "move": "moves",
    "frames": "its frames are sent then",
}


def follow_marks(traffic: Traffic, spans: list[Span], cancelled: Callable[[], bool] = lambda: False) -> Findings:
    """Fields that do something at the spans, and identifiers that are sent then.

    Args:
        traffic: The frames, and their structure.
        spans: When something was done.
        cancelled: Looked at now and then; when true the search ends with what it has.
    """
    evidence = f"{len(spans)} marked span{'s' if len(spans) != 1 else ''}"
    times = [c.times for c in traffic.columns.values() if len(c.times) > 1]
    if not spans or not times:
        return unheard(evidence, traffic, "there are no marks to follow")
    start, end = min(int(t[0]) for t in times), max(int(t[-1]) for t in times)
    inside = [s for s in sorted(spans) if s.end > start and s.start < end]
    if not inside:
        return unheard(evidence, traffic, "no mark lies where there are frames")
    marked = placed(inside, start, end)
    chance = np.full(len(marked.starts) - 1, -1e9)
    best: list[Fit] = []
    for fits in _each(traffic, marked, start):
        if cancelled():
            break
        # What does something at the marks as hardly ever elsewhere is no measure of chance: elsewhere, too, it is seen
        # where another place of the marks lies over them. One or two spans are met by chance too easily for that.
        ranks = [np.count_nonzero(fit.scores[1:] >= fit.scores[0]) / len(chance) for fit in fits]
        for fit, rank in zip(fits, ranks, strict=True):
            if marked.count < SEVERAL or (rank > ITS_OWN and min(ranks) > ITS_FIELD_S):
                chance = np.maximum(chance, fit.scores[1:])
        chosen = max(fits, key=lambda fit: fit.nats, default=None)
        if chosen is not None:
            best.append(chosen)
    best.sort(key=lambda fit: (-fit.nats, fit.state.carrier.field.length))
    best = switches_first(apart(best))
    imagined = imagined_scores(marked, _usual_cycle(traffic))
    judged = judge(best[0].nats if best else -1e9, chance, imagined, LEAST_SURE)
    named = [fit for fit in best[:CONSIDERED] if fit.nats >= LEAST_NATS]
    found = [(_candidate(traffic, fit, marked), fit.state.carrier) for fit in named]
    candidates = worth_naming(in_families(found), judged)
    reason = _reason(judged, best, marked, traffic)
    return Findings.of(evidence, judged, candidates, traffic, reason)


def _each(traffic: Traffic, marked: Marked, start: int) -> Iterator[list[Fit]]:
    """What each field may do at the marks, and whether identifiers are sent then."""
    for carrier in traffic.carriers + exclusive_pairs(traffic.columns, traffic.structures):
        fits = [fit for state in states_of(carrier, start) for fit in fits_of(state, marked)]
        if carrier.field.length > 1:
            margin = OF_A_STATE if carrier.field.length <= SMALL else BETTER_BIT
            least = max((fit.nats + fit.state.cost for fit in fits), default=0.0) + margin
            for bit in single_bits(carrier):
                states = [replace(s, cost=OF_A_NUMBER) for s in states_of(bit, start)[:1] if turns_at(s, marked)]
                ones = [fit for state in states for fit in fits_of(state, marked)]
                if any(fit.nats > least for fit in ones):
                    yield ones
        yield fits
    for carrier in stepping_together(traffic.columns, traffic.structures):
        states = [replace(state, cost=state.cost - TOGETHER) for state in states_of(carrier, start)]
        yield [fit for state in states for fit in fits_of(state, marked)]
    for carrier in whole_payloads(traffic.columns):
        state = sending(carrier, start)
        if state is not None:
            yield fits_of(state, marked)


def apart(best: list[Fit]) -> list[Fit]:
    """Without what shares bits with something better."""
    kept: list[Fit] = []
    taken: set[tuple[int, int | None, str, int]] = set()
    for fit in best:
        carrier = fit.state.carrier
        bits = {(carrier.key, carrier.page, carrier.header, bit) for bit in carrier.field.bits}
        if taken.isdisjoint(bits):
            kept.append(fit)
            taken |= bits
    return kept


def switches_first(best: list[Fit]) -> list[Fit]:
    """Of what fits nearly as well as the best, switches before the quantities that follow them."""
    if not best:
        return best
    least = best[0].nats - NEARLY_AS_GOOD
    near = [fit for fit in best if fit.nats >= least]
    near.sort(key=lambda fit: fit.state.carrier.field.length > SMALL and fit.shape != "frames")
    return near + best[len(near) :]


def _usual_cycle(traffic: Traffic) -> float:
    cycles = [float(np.median(np.diff(c.times))) / NS_PER_S for c in traffic.columns.values() if len(c.times) > 3]
    return float(np.median(cycles)) if cycles else 0.1


def _candidate(traffic: Traffic, fit: Fit, marked: Marked) -> Candidate:
    carrier = fit.state.carrier
    field = carrier.field if fit.shape == "frames" else _whole(traffic, carrier)
    return Candidate(
        carrier.key,
        field,
        fit.nats,
        _why(fit, marked),
        carrier.page,
        lag_s=_delay(fit, marked),
        shape=fit.shape,
        header=carrier.header,
    )


def _whole(traffic: Traffic, carrier: Carrier) -> BitField:
    structure, column = traffic.structures[carrier.key], traffic.columns[carrier.key]
    return to_byte_end(structure, column, carrier.piece, carrier.field)


def _delay(fit: Fit, marked: Marked) -> float:
    """The median time from a span's start to the first change about it."""
    turns, delays = fit.state.turns, []
    for start, end in zip(marked.starts[0], marked.ends[0], strict=True):
        at = int(np.searchsorted(turns, start - EDGE_S))
        if at < len(turns) and turns[at] < end + EDGE_S + fit.state.cycle_s:
            delays.append(float(turns[at] - start))
    return float(np.median(delays)) if delays else 0.0


def _why(fit: Fit, marked: Marked) -> str:
    """What it does, at how many of the marks, and what it does elsewhere."""
    does = DOES[fit.shape].format(words=fit.state.words)
    turns = fit.state.turns
    mine = np.zeros(len(turns), np.bool_)
    for start, end in zip(marked.starts[0], marked.ends[0], strict=True):
        mine |= (turns >= start - EDGE_S) & (turns < end + EDGE_S + fit.state.cycle_s)
    others = int(np.count_nonzero(~mine))
    if fit.state.kind != "changes" and fit.shape != "flip":
        others = (others + 1) // 2
    where = (
        "and nowhere else" if not others else f"and {others} times elsewhere" if others > 1 else "and once elsewhere"
    )
    done = f"in {int(fit.hits.sum())} of {marked.count} spans" if marked.count > 1 else "at the one span"
    return f"{does}, {done} {where}"


def _reason(judged: Judged, best: list[Fit], marked: Marked, traffic: Traffic) -> str:
    """Why nothing is found, or what would decide it, in a sentence."""
    count = f"{marked.count} press" + ("es" if marked.count != 1 else "")
    if judged.verdict == "nothing":
        return (
            f"in {judged.power:.0%} of trials a field made up to follow these marks stands out; here none does: every "
            f"field of the {len(traffic.columns)} identifiers stayed the same through {count}, or goes its own way"
        )
    if judged.verdict == "found":
        return ""
    if not best or best[0].nats < LEAST_NATS:
        return f"{count} would not show a carrier in this traffic ({judged.power:.0%} of made-up ones stand out)"
    fit = best[0]
    more = int(np.clip(np.ceil((judged.needed - fit.nats + 0.5) / max(fit.each, 0.3)), 1, MOST_MORE))
    words = f"about {more} more press{'es' if more > 1 else ''}"
    lengths = marked.ends[0] - marked.starts[0]
    if float(lengths.max()) < SHORT_S:
        words += ", one of them long (3 s)" if more > 1 else ", a long one (3 s)"
    return f"{words} would decide it"
