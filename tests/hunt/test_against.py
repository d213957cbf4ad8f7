"""Good against bad: the fault is named, and another drive alone is no fault."""

from __future__ import annotations

import numpy as np
import pytest
from benchmarks.vehicles.faults import KINDS, break_it
from benchmarks.vehicles.vehicle import Vehicle, vehicle

from keel.hunt.against import good_against_bad
from keel.hunt.columns import Column
from keel.hunt.scene import Traffic


@pytest.fixture(scope="module")
def good() -> tuple[Vehicle, Traffic]:
    one = vehicle(9003, seconds=120)
    return one, Traffic.of(one.columns)


@pytest.mark.parametrize("kind", KINDS)
def test_each_kind_of_fault_ranks_among_the_first(good: tuple[Vehicle, Traffic], kind: str) -> None:
    bad = vehicle(9003, 1, 120)
    for seed in range(3):
        fault = break_it(np.random.default_rng(seed), good[0], bad, kind)
        assert fault is not None
        found = good_against_bad(good[1], fault.columns)
        if (fault.key, kind) in [(f.key, f.kind) for f in found.findings[:3]]:
            return
    raise AssertionError(f"{kind} was not found in three tries")


def test_another_drive_alone_surprises_little(good: tuple[Vehicle, Traffic]) -> None:
    found = good_against_bad(good[1], vehicle(9003, 2, 120).columns)
    assert len(found.findings) <= 4


def test_a_recording_does_not_differ_from_itself(good: tuple[Vehicle, Traffic]) -> None:
    assert good_against_bad(good[1], good[0].columns).findings == ()


def test_what_is_gone_and_what_is_new_are_told_with_their_identifiers(good: tuple[Vehicle, Traffic]) -> None:
    columns = dict(good[0].columns)
    gone = max(columns, key=lambda key: len(columns[key].times))
    moved = columns.pop(gone)
    columns[gone ^ 1] = Column(gone ^ 1, moved.times, moved.payloads)
    found = {(f.kind, f.key) for f in good_against_bad(good[1], columns).findings}
    assert {("missing", gone), ("new_identifier", gone ^ 1)} <= found
