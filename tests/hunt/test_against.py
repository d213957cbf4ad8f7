"""Good against bad: the fault is named, and another drive alone is no fault."""

from __future__ import annotations

import re

import numpy as np
import pytest
from benchmarks.vehicles.faults import KINDS, break_it
from benchmarks.vehicles.vehicle import Vehicle, vehicle

from keel.hunt.against import good_against_bad
from keel.hunt.columns import Column
from keel.hunt.traffic import Traffic


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


def stream(rng: np.random.Generator, key: int, count: int, every_ms: float) -> Column:
    """A 12-bit number in bytes 1 and 2 with four bits above it that stand still, a constant byte, a counter."""
    number = np.cumsum(rng.integers(-3, 4, count)) % 3000 + 500
    rows = np.zeros((count, 5), np.uint8)
    rows[:, 0], rows[:, 3], rows[:, 4] = 0x55, 0xA7, np.arange(count) % 16
    rows[:, 1], rows[:, 2] = number & 0xFF, number >> 8 | 0x40
    return Column(key, (np.arange(count) * every_ms * 1e6).astype(np.int64), rows)


def test_bits_that_always_differ_come_first_and_are_named_exactly() -> None:
    rng = np.random.default_rng(4)
    good = {key: stream(rng, key, 1000, 10) for key in (0x100, 0x200, 0x300)}
    bad = {key: stream(rng, key, 999, 10) for key in good}
    bad[0x100].payloads[:, 2] &= 0xBF
    bad[0x200].payloads[:, 3] = 0x13
    bad[0x300].payloads[:, 0] ^= 0x0A
    found = good_against_bad(Traffic.of(good), bad).findings
    first = {(f.kind, f.key, (f.field.start, f.field.length)) for f in found[:3] if f.field is not None}
    assert first == {("constant", 0x100, (22, 1)), ("constant", 0x200, (24, 8)), ("constant", 0x300, (0, 8))}
    assert {f.why.split(" in ")[0] for f in found[:3]} == {
        "bit 22 is always 0", "byte 3 is always 13", "byte 0 is always 5F"
    }  # fmt: skip


def test_what_is_said_fits_in_the_bits_that_are_named(good: tuple[Vehicle, Traffic]) -> None:
    bad = vehicle(9003, 1, 120)
    for seed in range(4):
        fault = break_it(np.random.default_rng(seed), good[0], bad, "out_of_range")
        assert fault is not None
        for finding in good_against_bad(good[1], fault.columns).findings:
            if finding.kind == "out_of_range" and finding.field is not None:
                said = [abs(int(n)) for n in re.findall(r"-?\d+", finding.why)]
                assert max(said) < 1 << finding.field.length


def guarded(rng: np.random.Generator, key: int, wrong: np.ndarray[tuple[int], np.dtype[np.int64]]) -> Column:
    """A walk, a counter and an XOR over both in byte 7, wrong in some frames."""
    column = stream(rng, key, 3000, 10)
    rows = np.zeros((3000, 8), np.uint8)
    rows[:, :5] = column.payloads
    rows[:, 7] = np.bitwise_xor.reduce(rows[:, :7], axis=1)
    rows[wrong, 7] ^= 0x10
    return Column(key, column.times, rows)


def test_what_is_as_often_so_in_the_good_one_is_no_finding() -> None:
    rng = np.random.default_rng(9)
    bursts = np.concatenate([np.arange(a, a + 12) for a in (300, 1900, 2500)])
    good = {0x100: guarded(rng, 0x100, bursts), 0x200: stream(rng, 0x200, 3000, 10)}
    as_good = {0x100: guarded(rng, 0x100, bursts + 40), 0x200: stream(rng, 0x200, 3000, 10)}
    found = good_against_bad(Traffic.of(good), as_good).findings
    assert "checksum_wrong" not in {f.kind for f in found}
    clean = {**good, 0x100: guarded(rng, 0x100, bursts[:0])}
    worse = {**as_good, 0x100: guarded(rng, 0x100, np.arange(50, 3000, 400))}
    first = good_against_bad(Traffic.of(clean), worse).findings[0]
    assert (first.kind, first.key) == ("checksum_wrong", 0x100) and "8 of 3000" in first.why


def test_what_is_certain_comes_before_what_another_drive_may_do() -> None:
    rng = np.random.default_rng(10)
    good = {key: stream(rng, key, 3000, 10) for key in (0x100, 0x200, 0x300)}
    bad = {key: stream(rng, key, 3000, 10) for key in good}
    # One number stands still for long; one identifier falls silent; one is gone.
    bad[0x100].payloads[1000:2900, 1:3] = bad[0x100].payloads[1000, 1:3]
    cut = np.r_[0:1200, 1700:3000]
    bad[0x200] = Column(0x200, bad[0x200].times[cut], bad[0x200].payloads[cut])
    del bad[0x300]
    kinds = [f.kind for f in good_against_bad(Traffic.of(good), bad).findings]
    assert kinds[:2] == ["missing", "dropout"] and "stuck" in kinds


def test_a_bit_well_above_a_number_is_a_constant_and_one_right_above_it_is_the_number_s() -> None:
    rng = np.random.default_rng(11)
    good = {0x100: stream(rng, 0x100, 2000, 10)}
    far = {0x100: stream(rng, 0x100, 2000, 10)}
    far[0x100].payloads[:, 2] |= 0x80
    found = good_against_bad(Traffic.of(good), far).findings
    assert [(f.kind, f.field.bits) for f in found if f.field is not None and f.kind == "constant"] == [
        ("constant", (23,))
    ]
    assert all(f.kind == "constant" or 23 not in f.field.bits for f in found if f.field is not None)
