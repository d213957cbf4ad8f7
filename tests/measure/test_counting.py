"""Flips, percentiles, and the user's checks, against plain references."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from keel.errors import AskError
from keel.measure.checks import count_within, parse_check, run_checks
from keel.measure.flips import BITS, flips_by_key
from keel.measure.percentiles import Bins
from keel.model.identity import pack_key
from keel.model.span import Span
from keel.model.units import NS_PER_S
from tests.making import START, Row, batch, find, recorded, rows


def flips_of(found: list[Row], key: int) -> list[int]:
    """Bit by bit, frame by frame."""
    mine = [r for r in found if pack_key(r.bus, r.form, r.ident) == key]
    good = [r.payload for r in mine if r.is_good]
    flips = [0] * BITS
    for a, b in zip(good[:-1], good[1:], strict=True):
        for n in range(min(len(a), len(b), BITS // 8)):
            for bit in range(8):
                flips[8 * n + bit] += (a[n] ^ b[n]) >> bit & 1
    return flips


@given(rows(80), st.integers(0, 80))
@settings(max_examples=40, deadline=None)
def test_flips_equal_the_slow_count_across_segments(found: list[Row], cut: int) -> None:
    with tempfile.TemporaryDirectory() as folder:
        parts = [batch(p) for p in (found[:cut], found[cut:]) if p]
        flips = flips_by_key(find(recorded(Path(folder) / "r.keel", *parts)))
    for key, mine in flips.items():
        assert mine.tolist() == flips_of(found, key)


@pytest.mark.parametrize("size", [1, 8, 13, 64])
def test_flips_of_many_payloads_of_one_size(tmp_path: Path, size: int) -> None:
    noise = np.random.default_rng(size).integers(0, 256, (700, size), np.uint8)
    found = [Row(START + i, 1, noise[i].tobytes(), faults=int(i == 400)) for i in range(700)]
    flips = flips_by_key(find(recorded(tmp_path / "r.keel", batch(found))))
    assert flips[pack_key(0, 0, 1)].tolist() == flips_of(found, pack_key(0, 0, 1))


@given(st.lists(st.integers(0, 10**10), min_size=1, max_size=300), st.floats(0, 1))
def test_percentiles_are_right_to_a_bin(steps: list[int], share: float) -> None:
    bins = Bins.of(np.array(steps, np.int64))
    exact = sorted(steps)[min(int(share * (len(steps) - 1)), len(steps) - 1)]
    above = sorted(steps)[min(int(np.ceil(share * (len(steps) - 1))), len(steps) - 1)]
    assert exact * 0.998 - 1 <= bins.percentile(share) <= above * 1.002 + 1
    assert bins.total == len(steps)
    assert int(bins.histogram(0, 10**10, 17).sum()) == len(steps)
    longer = bins.longer_than(5_000_000_000)
    assert sum(s > 5_020_000_000 for s in steps) <= longer <= sum(s > 4_980_000_000 for s in steps)


@given(rows(60), st.integers(1, 60), st.integers(1, 300), st.booleans())
@settings(max_examples=60, deadline=None)
def test_counts_in_any_stretch_equal_the_slow_count(found: list[Row], cut: int, ms: int, fewest: bool) -> None:
    per = ms * 1_000_000
    with tempfile.TemporaryDirectory() as folder:
        parts = [batch(p) for p in (found[:cut], found[cut:]) if p]
        snapshot = recorded(Path(folder) / "r.keel", *parts)
        count, _ = count_within(find(snapshot), snapshot.span, per, fewest)
    times = [r.time for r in found]
    if not fewest:
        assert count == max(sum(t <= u < t + per for u in times) for t in times)
        return
    starts = [t for t in [snapshot.span.start, *times] if t + per <= snapshot.span.end]
    assert count == min([len(found), *(sum(t < u <= t + per for u in times) for t in starts)])


def test_a_stretch_that_ends_with_the_next_segment_is_counted_whole(tmp_path: Path) -> None:
    found = [Row(START, 164)] * 3 + [Row(START + 1_000_000, 164)]
    snapshot = recorded(tmp_path / "r.keel", batch(found[:1]), batch(found[1:]))
    assert count_within(find(snapshot), snapshot.span, 1_000_000, True)[0] == 1


def test_checks_say_what_they_measured(tmp_path: Path) -> None:
    found = [Row(START + i * 10_000_000, 0x0A4, b"12345678") for i in range(200)]
    found += [Row(START + i * 50_000_000, 0x220, faults=int(i % 10 == 3)) for i in range(40)]
    snapshot = recorded(tmp_path / "r.keel", batch(sorted(found, key=lambda r: r.time)))
    rules = {
        "cycle(0A4) within 8ms..12ms": (True, "10.000 ms to 10.000 ms"),
        "cycle(id:220) < 60ms": (False, "220 50.000 ms to 100.000 ms"),
        "cycle(0A4) > 10ms": (False, "0A4 10.000 ms"),
        "count(fault) = 4": (True, "4 frames"),
        "count(fault) < 3 per 600ms": (True, "at most 2"),
        "count(id:0A4) >= 99 per 1s": (True, "at least 100"),
        "load(b) < 1%": (True, "0.0% in the fullest second"),
        "load(c) < 1%": (None, "no bus is called “c”"),
        "count(idd:1) < 1": (None, "is not understood"),
        "cycle(7FF) < 1s": (None, "no two frames"),
    }
    for verdict in run_checks(list(rules), snapshot):
        passed, figure = rules[verdict.text]
        assert verdict.passed is passed and figure in verdict.figure, verdict
    (failed,) = run_checks(["cycle(220) < 60ms"], snapshot)
    assert failed.at == START + 2 * 50_000_000


@pytest.mark.parametrize(
    "text, position, said",
    [
        ("speed(0A4) < 5", 0, "is no check"),
        ("count(fault) <", 12, "“<” is no bound"),
        ("count(fault or) < 5", 14, "the ask ends here"),
        ("load(a) < 5", 10, "load takes another kind of bound"),
        ("cycle(0A4) < 5", 13, "cycle takes another kind of bound"),
    ],
)
def test_a_wrong_check_says_where_and_what(text: str, position: int, said: str) -> None:
    with pytest.raises(AskError) as caught:
        parse_check(text)
    assert caught.value.position == position and said in str(caught.value)


def test_a_check_looks_only_at_the_lens(tmp_path: Path) -> None:
    snapshot = recorded(
        tmp_path / "r.keel", batch([Row(START + i * NS_PER_S, 1, faults=int(i > 5)) for i in range(10)])
    )
    (verdict,) = run_checks(["count(fault) = 0"], snapshot, Span(START, START + 5 * NS_PER_S))
    assert verdict.passed
