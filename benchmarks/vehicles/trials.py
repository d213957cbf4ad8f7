"""Trials of each kind of evidence on random vehicles, and how often the hunt was right."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from benchmarks.vehicles.judging import OVERLAP, overlap, right_field
from benchmarks.vehicles.layout import Placed
from benchmarks.vehicles.presses import Pressing, cases, press, put_in
from benchmarks.vehicles.vehicle import Vehicle, marks_of, moving_bits, readings_of, series_of
from benchmarks.vehicles.world import STEP_S, Quantity, World, drive
from keel.hunt.candidates import Candidate, Findings
from keel.hunt.marks import follow_marks
from keel.hunt.measurements import Points
from keel.hunt.readings import follow_readings
from keel.hunt.series import follow_series
from keel.hunt.traffic import Traffic

PER_VEHICLE = 6


@dataclass(frozen=True)
class Trial:
    """One question, and how it was answered.

    Attributes:
        there: Whether anything carries it.
        rank: Place of the first right candidate, from 0; 99 for none.
        scaled: Whether that candidate's scale and offset are right.
        said_nothing: Whether the answer was that nothing carries it.
    """

    seed: int
    what: str
    there: bool
    rank: int
    scaled: bool
    said_nothing: bool
    words: str = ""
    verdict: str = ""
    shape: str = ""
    amount: int = 0


def judge(vehicle: Vehicle, seed: int, what: str, findings: Findings, carriers: list[tuple[int, Placed]]) -> Trial:
    """How a question was answered."""
    rank, scaled = 99, False
    for place, candidate in enumerate(findings.candidates):
        right = right_field(vehicle, candidate.key, candidate.field, carriers) if carriers else None
        if right is not None:
            rank, scaled = place, well_scaled(candidate, right[1], moving_bits(vehicle, *right))
            break
    best = findings.candidates[0] if findings.candidates else None
    words = f"p {findings.nothing_probability:.3f}"
    if best is not None:
        field = f"{best.key:x} {best.field.start},{best.field.length},{best.field.order}"
        words += f" best {field} nats {best.nats:.1f} {best.scale} {best.offset} {best.why}"
    words += f" {findings.chance} | {findings.reason}"
    nothing = findings.verdict == "nothing"
    return Trial(seed, what, bool(carriers), rank, scaled, nothing, words, findings.verdict)


def well_scaled(candidate: Candidate, truth: Placed, moving: set[int]) -> bool:
    """Whether a candidate's values are the true ones within 2 %: the scale, and where it begins."""
    if candidate.scale is None or candidate.offset is None:
        return False
    # Lowest bits that never move make a step of several.
    steps = truth.field.bits.index(candidate.field.bits[0]) if candidate.field.bits[0] in truth.field.bits else 0
    scale = candidate.scale / 2.0**steps
    span = abs(truth.scale) * 2.0 ** len(moving)
    return abs(scale / truth.scale - 1) <= 0.02 and abs(candidate.offset - truth.offset) <= 0.02 * max(
        span, abs(truth.offset)
    )


def choose(rng: np.random.Generator, vehicle: Vehicle, kind: tuple[str, ...], fewest_bits: int) -> list[Quantity]:
    """Quantities that are on the bus and move enough."""
    found = []
    for quantity in vehicle.world.quantities.values():
        bits = [len(moving_bits(vehicle, k, p)) for k, p in vehicle.carriers(quantity.family)]
        if quantity.kind in kind and bits and max(bits) >= fewest_bits:
            found.append(quantity)
    return [found[i] for i in rng.permutation(len(found))[:PER_VEHICLE]]


def elsewhere(vehicle: Vehicle) -> World:
    """Another vehicle's drive: nothing of it is on this bus."""
    seed = vehicle.seed
    return drive(np.random.default_rng([seed, 9]), np.random.default_rng([seed, 8]), vehicle.world.seconds)


def readings_trials(vehicle: Vehicle, traffic: Traffic) -> Iterator[Trial]:
    """Readings of quantities that are there, and of others that are not."""
    rng = np.random.default_rng([vehicle.seed, 77])
    for quantity in choose(rng, vehicle, ("value",), 3):
        read = readings_of(rng, vehicle.world, quantity.name)
        yield judge(vehicle, vehicle.seed, quantity.name, _follow(traffic, read), vehicle.carriers(quantity.family))
    other = elsewhere(vehicle)
    values = [q for q in other.quantities.values() if q.kind == "value"]
    for i in rng.permutation(len(values))[: PER_VEHICLE // 2]:
        read = readings_of(rng, other, values[i].name)
        yield judge(vehicle, vehicle.seed, values[i].name, _follow(traffic, read), [])


def _follow(traffic: Traffic, read: list[tuple[int, float]]) -> Findings:
    return follow_readings(traffic, Points(np.array([t for t, _ in read]), np.array([v for _, v in read])))


def series_trials(vehicle: Vehicle, traffic: Traffic) -> Iterator[Trial]:
    """Logs of another instrument."""
    rng = np.random.default_rng([vehicle.seed, 78])
    for quantity in choose(rng, vehicle, ("value",), 3):
        log, _ = series_of(rng, vehicle.world, quantity.name)
        yield judge(vehicle, vehicle.seed, quantity.name, _series(traffic, log), vehicle.carriers(quantity.family))
    other = elsewhere(vehicle)
    values = [q for q in other.quantities.values() if q.kind == "value"]
    for i in rng.permutation(len(values))[: PER_VEHICLE // 2]:
        log, _ = series_of(rng, other, values[i].name)
        yield judge(vehicle, vehicle.seed, values[i].name, _series(traffic, log), [])


def _series(traffic: Traffic, log: list[tuple[int, float]]) -> Findings:
    return follow_series(traffic, Points(np.array([t for t, _ in log]), np.array([v for _, v in log])))


def marks_trials(vehicle: Vehicle, traffic: Traffic) -> Iterator[Trial]:
    """What goes on by itself and is marked, and presses of all shapes put into the traffic; and dead buttons."""
    rng = np.random.default_rng([vehicle.seed, 79])
    for quantity in choose(rng, vehicle, ("flag", "enum"), 1)[:3]:
        moments = periods(rng, quantity)
        if moments:
            findings = follow_marks(traffic, marks_of(rng, moments))
            trial = judge(vehicle, vehicle.seed, quantity.name, findings, vehicle.carriers(quantity.family))
            yield replace(trial, shape="by itself", amount=len(moments))
    for shape, amount in cases(vehicle.seed):
        pressed = press(rng, vehicle.world.seconds, shape, amount)
        spans = pressed.marks(rng)
        dead = judge(vehicle, vehicle.seed, "dead button", follow_marks(traffic, spans), [])
        yield replace(dead, shape="dead", amount=amount)
        made = put_in(rng, vehicle, traffic, shape, pressed)
        if made is not None:
            yield _pressed(vehicle, made, follow_marks(made.traffic, spans), shape, amount)


def _pressed(vehicle: Vehicle, made: Pressing, findings: Findings, shape: str, amount: int) -> Trial:
    column = made.traffic.columns[made.key]
    every = np.unpackbits(column.payloads, axis=1, bitorder="little")
    rank = 99
    for place, candidate in enumerate(findings.candidates):
        if candidate.key != made.key:
            continue
        mine = {b for b in candidate.field.bits if every[:, b].min() != every[:, b].max()}
        its = {b for b in made.field.bits if every[:, b].min() != every[:, b].max()} if made.field else mine
        if overlap(mine, its) >= OVERLAP or made.field is None:
            rank = place
            break
    trial = judge(vehicle, vehicle.seed, shape, findings, [])
    where = f"{made.key:x} {made.field.start if made.field else ''}"
    return replace(trial, there=True, rank=rank, shape=shape, amount=amount, what=f"{shape} x{amount} {where}")


def periods(rng: np.random.Generator, quantity: Quantity) -> list[tuple[float, float]]:
    """When it was on, or away from where it mostly is; none if that was too rarely or too often to mark by hand."""
    kinds, counts = np.unique(quantity.values, return_counts=True)
    if len(kinds) < 2:
        return []
    on = quantity.values > 0 if quantity.kind == "flag" else quantity.values != kinds[counts.argmax()]
    turns = np.flatnonzero(np.diff(on)) + 1
    begins = turns[on[turns]].tolist()
    found = []
    for begin in begins:
        later = turns[turns > begin]
        if len(later):
            found.append((begin * STEP_S, int(later[0]) * STEP_S))
    found = [(a, b) for a, b in found if a > 1 and b < len(on) * STEP_S - 1]
    return found if 3 <= len(found) <= 14 and len(found) >= len(begins) - 2 else []
