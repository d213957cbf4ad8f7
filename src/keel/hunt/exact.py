"""Where is it sent? A value or text that a person knows, in the usual encodings, within half a step of what was typed.

Every place it may stand is tried: the fields of the structure, and all runs of whole bytes in both orders on every
page, whether they move or not. A number of few digits stands somewhere by chance; how easily is seen by looking for
other numbers of as many digits.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from keel.hunt.candidates import MOST_CANDIDATES, Candidate, Findings, in_families, worth_naming
from keel.hunt.carriers import Carrier, Floats
from keel.hunt.encodings import Typed, typed, words_of
from keel.hunt.placed_values import Place, Sought, Spot, places_of, spots_of_text
from keel.hunt.traffic import Traffic
from keel.hunt.verdict import Judged, judge
from keel.model.frames import Times

LEAST_NATS = 0.3
LEAST_SURE = 4.0
DECOYS, IMAGINED = 60, 60


@dataclass(frozen=True)
class Known:
    """A value or text, and when it was sent: ns since 1970, or None for any time."""

    value: str
    at: int | None = None


def find_exact(traffic: Traffic, known: Known, cancelled: Callable[[], bool] = lambda: False) -> Findings:
    """Fields that hold a value or text then, and seldom otherwise."""
    evidence = f"“{known.value}”{' at a known time' if known.at is not None else ''}"
    number = typed(known.value)
    spots = spots_of_text(traffic.columns, known.value, known.at, cancelled)
    chance, carriers = np.full(DECOYS, -1.0), np.zeros(0)
    notes: tuple[str, ...] = ()
    if number is not None:
        notes = (number.words,)
        fields: list[Place] = []
        decoys = number.others(DECOYS)
        sought = Sought.of([number, *decoys])
        scores = np.full(len(decoys) + 1, -1.0)
        for place in places_of(traffic, known.at, cancelled):
            if cancelled():
                break
            here, best = place.score(sought)
            scores = np.maximum(scores, here)
            if best is not None:
                spots.append(best)
            if place.is_a_field:
                fields.append(place)
        chance = scores[1:] if len(decoys) else np.full(DECOYS, float(scores[0]))
        carriers = _imagined(fields, number)
    spots.sort(key=lambda spot: -spot.nats)
    spots = _apart([spot for spot in spots if spot.nats >= LEAST_NATS])
    judged = judge(spots[0].nats if spots else -1.0, chance, carriers, LEAST_SURE, extend=True)
    found = [(_candidate(spot, known), _carrier(traffic, spot)) for spot in spots[: 3 * MOST_CANDIDATES]]
    candidates = () if cancelled() else worth_naming(in_families(found), judged)
    return Findings.of(evidence, judged, candidates, traffic, _reason(judged, known, number), notes)


def _imagined(fields: list[Place], number: Typed) -> Floats:
    """Scores of values that fields of this recording do hold, typed with as many decimals."""
    random = np.random.default_rng(24)
    scores = []
    for i in random.integers(0, len(fields), IMAGINED).tolist() if fields else ():
        scores.append(fields[i].imagined_score(random, number))
    return np.array(scores)


def _apart(spots: list[Spot]) -> list[Spot]:
    """Without what shares bits with something better."""
    kept: list[Spot] = []
    taken: set[tuple[int, int | None, str, int]] = set()
    for spot in spots:
        bits = {(spot.key, spot.page, spot.header, bit) for bit in spot.field.bits}
        if taken.isdisjoint(bits):
            kept.append(spot)
            taken |= bits
    return kept


def _candidate(spot: Spot, known: Known) -> Candidate:
    when = "" if known.at is None else " about then"
    often = "always" if spot.share >= 1 else f"in {spot.share:.1%} of its frames"
    why = f"is {spot.holds}{when}, {often}{words_of(spot.encoding)}"
    encoding = spot.encoding
    scale, offset = (None, None) if encoding is None or not encoding.is_linear else (encoding.scale, encoding.offset)
    return Candidate(spot.key, spot.field, spot.nats, why, spot.page, scale, offset, header=spot.header)


def _carrier(traffic: Traffic, spot: Spot) -> Carrier:
    if spot.header:
        return traffic.headers[spot.key][spot.header]
    column = traffic.columns[spot.key]
    rows = traffic.structures[spot.key].rows_of(spot.page, column.payloads)
    times: Times = column.times[rows]
    return Carrier(spot.key, spot.piece, times, spot.read(column.payloads[rows]))


def _reason(judged: Judged, known: Known, number: Typed | None) -> str:
    """Why nothing is found, or what would decide it, in a sentence."""
    if judged.verdict == "found":
        return ""
    if judged.verdict == "nothing":
        when = "" if known.at is None else " about then"
        return f"no field holds it{when} in any usual scale, order or coding, as a number, packed decimal or text"
    if number is None:
        return "no message says this text: a shorter part of it may be sent"
    return (
        "numbers of as many digits stand somewhere by chance, too: one with more digits, or its time, would decide it"
    )
