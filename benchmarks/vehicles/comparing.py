"""Trials of good against bad: another drive of the same vehicle, with one fault."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from benchmarks.vehicles.faults import KINDS, break_it
from benchmarks.vehicles.trials import Trial
from benchmarks.vehicles.vehicle import Vehicle, vehicle
from keel.hunt.against import good_against_bad
from keel.hunt.traffic import Traffic


def against_trials(good: Vehicle, traffic: Traffic) -> Iterator[Trial]:
    """One fault of each kind."""
    for number, kind in enumerate(KINDS):
        rng = np.random.default_rng([good.seed, 80, number])
        bad = vehicle(good.seed, 1 + number % 3, good.world.seconds)
        fault = break_it(rng, good, bad, kind)
        if fault is None:
            continue
        found = good_against_bad(traffic, fault.columns)
        rank = next((i for i, f in enumerate(found.findings) if f.key == fault.key and f.kind == kind), 99)
        where = f"{fault.key:x}" + (
            f" {fault.field.start},{fault.field.length},{fault.field.order}" if fault.field else ""
        )
        best = "; ".join(
            f"{f.kind} {f.key:x} {(f.field.start, f.field.length) if f.field else ''} {f.nats:.1f} {f.why}"
            for f in found.findings[:2]
        )
        mine = next((f"{f.kind} {f.nats:.1f}" for f in found.findings if f.key == fault.key), "")
        yield Trial(good.seed, f"{kind} {where}", True, rank, True, False, f"mine {mine} best {best}")
