"""The fit of every field at once, held against exact rational arithmetic."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from keel.hunt.columns import Column
from keel.hunt.measurements import Points
from keel.hunt.series import follow_series
from keel.hunt.traffic import Traffic
from keel.hunt.windows import fit_windows
from keel.model.fields import BitField, Order, extract, insert

ORDERS: tuple[Order, ...] = ("little", "big")


def exact(field: BitField, payloads: Any, values: Any) -> tuple[Fraction, Fraction] | None:
    """Slope and squared correlation in whole numbers; None if the field does not move."""
    raw = [Fraction(int(r)) for r in extract(field, payloads)]
    given_values = [Fraction(float(v)) for v in values]
    n = len(raw)
    sx, sy = sum(raw), sum(given_values)
    xx = n * sum(r * r for r in raw) - sx * sx
    xy = n * sum(r * v for r, v in zip(raw, given_values, strict=True)) - sx * sy
    yy = n * sum(v * v for v in given_values) - sy * sy
    return None if not xx or not yy else (Fraction(xy / xx), Fraction(xy * xy / xx / yy))


def field_of(start: int, length: int, order: Order, signed: bool, size: int) -> BitField | None:
    field = BitField(start, length, order, signed)
    return field if field.last_byte < size and min(field.bits) >= 0 else None


def check(payloads: Any, values: Any, lengths: tuple[int, ...]) -> int:
    found = fit_windows(payloads, values)
    size, checked = payloads.shape[1], 0
    for start in range(size * 8):
        for way, order in enumerate(ORDERS):
            for length in lengths:
                for signed in (False, True):
                    field = field_of(start, length, order, signed, size)
                    if field is None:
                        continue
                    slope, fit = (a[start, way, length - 1, int(signed)] for a in (found.slopes, found.fits))
                    expected = exact(field, payloads, values)
                    if expected is None:
                        assert fit == 0
                        continue
                    assert slope == pytest.approx(float(expected[0]), rel=1e-9, abs=1e-300)
                    assert fit == pytest.approx(float(expected[1]), rel=1e-9, abs=1e-25)
                    checked += 1
    return checked


def test_every_field_fits_as_in_exact_arithmetic() -> None:
    rng = np.random.default_rng(4)
    payloads = rng.integers(0, 256, (40, 5)).astype(np.uint8)
    assert check(payloads, rng.normal(0, 1000, 40), (1, 2, 7, 8, 13, 32)) > 700


def test_a_field_that_hovers_about_a_power_of_two_loses_no_accuracy() -> None:
    rng = np.random.default_rng(5)
    raw = (2**31 + rng.integers(-3, 3, 200)).astype(np.uint64)
    payloads = np.zeros((200, 8), np.uint8)
    for byte in range(4):
        payloads[:, byte] = raw >> np.uint64(8 * byte) & np.uint64(255)
        payloads[:, 7 - byte] = payloads[:, byte]
    values = (raw.astype(np.float64) - 2**31) * 0.37 + 1e6 + rng.normal(0, 0.2, 200)
    check(payloads, values, (31, 32))
    found = fit_windows(payloads, values)
    assert found.fits[0, 0, 31, 0] == found.fits[39, 1, 31, 0] and found.slopes[0, 0, 31, 0] == pytest.approx(
        0.37, abs=0.01
    )


@settings(max_examples=25)
@given(st.lists(st.tuples(st.binary(min_size=3, max_size=3), st.floats(-1e5, 1e5)), min_size=4, max_size=12))
def test_any_payloads_and_values(rows: list[tuple[bytes, float]]) -> None:
    payloads = np.frombuffer(b"".join(p for p, _ in rows), np.uint8).reshape(-1, 3)
    values = np.array([v for _, v in rows]).round(3)
    if len(set(values.tolist())) > 1:
        check(payloads, values, (1, 3, 12, 24))


def test_the_best_is_the_field_that_carries_it() -> None:
    rng = np.random.default_rng(6)
    payloads = rng.integers(0, 256, (200, 8)).astype(np.uint8)
    field = BitField(13, 11)
    raw = extract(field, payloads).astype(np.float64)
    best = fit_windows(payloads, raw * 0.125 - 40).best(5)
    assert best[0][0] == field and best[0][1] == pytest.approx(0.125) and best[0][2] == pytest.approx(1.0)
    payloads[:, 2] &= 0x1F
    held = fit_windows(payloads, extract(field, payloads).astype(np.float64) * 0.125).best(5)
    # High bits that never move fit alike: the shortest is named.
    assert held[0][0] == BitField(13, 8)


@pytest.mark.parametrize("n, size", [(0, 8), (2, 8), (5, 0)])
def test_too_little_fits_nothing(n: int, size: int) -> None:
    assert fit_windows(np.zeros((n, size), np.uint8), np.arange(n, dtype=np.float64)).count == 0


def test_a_field_that_the_structure_does_not_show_is_found_all_the_same() -> None:
    rng = np.random.default_rng(7)
    n = 6000
    times = np.arange(n) * 10_000_000
    wave = 900 + 500 * np.sin(times / 7e9) + 300 * np.sin(times / 2.3e9) + np.cumsum(rng.normal(0, 3, n))
    payloads = np.zeros((n, 4), np.uint8)
    insert(BitField(5, 12), payloads, wave.astype(np.int64))
    payloads[:, 3] = rng.integers(0, 256, n)
    whole = Traffic.of({1: Column(1, times, payloads)})
    noise = [c for c in whole.carriers if c.field.start > 20]
    blind = Traffic(whole.columns, {1: replace(whole.structures[1], pieces=())}, noise)
    moments = np.arange(2, 58, 0.2)
    series = Points((moments * 1e9).astype(np.int64), np.interp(moments, times / 1e9, wave) * 0.25 - 40)
    best = follow_series(blind, series).candidates[0]
    assert set(BitField(5, 11).bits) <= set(best.field.bits) <= set(BitField(5, 14).bits)
    assert best.scale == pytest.approx(0.25, rel=0.02) and "did not show it" in best.why
