"""Load, cycle times and faults."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from keel.lines.can import with_wire_bits
from keel.measure.cycles import describe, times_of
from keel.measure.faults import classes
from keel.measure.load import Loads, bus_means
from keel.measure.peaks import PeakFinder, settled
from keel.measure.report import traffic
from keel.model.faults import Fault
from keel.model.frames import Flag
from keel.model.identity import pack_key
from keel.model.span import Span
from keel.model.units import NS_PER_S
from tests.making import BUSES, START, Row, batch, find, recorded, rows


def wire_of(row: Row) -> float:
    one = with_wire_bits(batch([row]))
    bus = BUSES[row.bus]
    return int(one.bits[0]) / bus.bit_rate + int(one.fast_bits[0]) / bus.fast_bit_rate


@given(rows(60, ordered=False))
@settings(max_examples=40)
def test_mean_and_peak_load_equal_the_slow_sum(found: list[Row]) -> None:
    with tempfile.TemporaryDirectory() as folder:
        half = len(found) // 2
        parts = [batch(p) for p in (found[:half], found[half:]) if p]
        snapshot = recorded(Path(folder) / "r.keel", *parts)
        loads = bus_means(find(snapshot), snapshot.span)
        peaks = PeakFinder().find(find(snapshot)).buses
    length = (snapshot.span.end - snapshot.span.start) / NS_PER_S
    settled_peaks = settled(peaks, loads, snapshot.span)
    for index, load in enumerate(loads):
        mine = [r for r in found if r.bus == index]
        assert load.frames == len(mine)
        total = sum(map(wire_of, mine))
        more = total / max(len(mine), 1) if length < 1 else 0.0
        expected = total / (length + more) if length >= 0.001 else None
        assert load.mean == (expected if expected is None else pytest.approx(expected, rel=1e-9))
        said = settled_peaks[index]
        assert said is None if load.mean is None else said is not None and said.load >= load.mean
        windows = [sum(wire_of(o) for o in mine if r.time <= o.time < r.time + NS_PER_S) for r in mine]
        assert peaks[index].load == pytest.approx(max(windows, default=0.0), rel=1e-9)


def test_a_bus_full_of_frames_has_a_load_of_one(tmp_path: Path) -> None:
    one = with_wire_bits(batch([Row(START, 0x123, b"12345678")]))
    length = int(one.bits[0]) * 2000
    found = [Row(START + i * length, 0x123, b"12345678") for i in range(20_000)]
    snapshot = recorded(tmp_path / "r.keel", batch(found))
    assert bus_means(find(snapshot), snapshot.span)[0].mean == pytest.approx(1.0, abs=1e-3)
    assert PeakFinder().find(find(snapshot)).buses[0].load == pytest.approx(1.0, abs=1e-3)


@pytest.mark.parametrize("cells", [3, 40, 200])
def test_the_series_keeps_every_bit_whatever_its_cells(tmp_path: Path, cells: int) -> None:
    found = [Row(START + i * 7_000_000, 0x100 + i % 4, bytes(i % 9), bus=i % 2) for i in range(3000)]
    snapshot = recorded(tmp_path / "r.keel", batch(found[:1000]), batch(found[1000:]))
    series = Loads().series(find(snapshot), snapshot.span, cells)
    mean = series.load.mean(axis=1)
    for index, load in enumerate(bus_means(find(snapshot), snapshot.span)):
        assert mean[index] == pytest.approx(load.mean, rel=0.05)
    assert series.rate_hz.sum(axis=0).mean() == pytest.approx(1000 / 7, rel=0.05)


def test_fault_times_lie_in_the_span(tmp_path: Path) -> None:
    found = [Row(START + i * NS_PER_S, 1, faults=int(Fault.CRC) if i % 3 == 0 else 0) for i in range(10)]
    snapshot = recorded(tmp_path / "r.keel", batch(found))
    series = Loads().series(find(snapshot), Span(START + NS_PER_S, START + 7 * NS_PER_S), 20)
    # Twenty cells of 0.3 s from second 1 on: seconds 3 and 6.
    assert np.flatnonzero(series.faults).tolist() == [6, 16]


def steady(
    count: int, step_ms: float, seed: int = 0, jitter_ms: float = 0.2
) -> np.ndarray[tuple[int], np.dtype[np.int64]]:
    rng = np.random.default_rng(seed)
    return START + (np.arange(count) * step_ms * 1e6 + rng.normal(0, jitter_ms * 1e6, count)).astype(np.int64)


def test_a_steady_sender() -> None:
    times = steady(500, 10)
    cycle = describe(1, times, int(times[-1]))
    assert cycle.state == "steady" and cycle.gaps == 0
    assert cycle.usual == pytest.approx(10e6, rel=0.01)
    assert int(cycle.counts.sum()) == 499


def test_one_who_drops_out() -> None:
    times = np.concatenate([steady(100, 50), steady(100, 50, 1) + 100 * 50_000_000 + 1_300_000_000])
    cycle = describe(1, times, int(times[-1]))
    assert cycle.state == "dropped out" and cycle.gaps == 1
    assert cycle.gap == pytest.approx(1.35e9, rel=0.01)
    assert cycle.gap_at == int(times[99])


def test_one_who_stopped() -> None:
    times = steady(100, 50)
    cycle = describe(1, times, int(times[-1]) + 4 * NS_PER_S)
    assert cycle.state == "stopped"
    assert (cycle.gap, cycle.gap_at) == (4 * NS_PER_S, int(times[-1]))


def test_bursts_and_single_frames() -> None:
    burst = np.array([0, 50, 100, 150])
    times = START + (np.arange(20)[:, None] * 1000 + burst).reshape(-1) * 1_000_000
    assert describe(1, times, int(times[-1])).state == "in bursts"
    assert describe(1, times[:2], int(times[1])).state == "too few"
    assert describe(1, times[:1], int(times[0])).gap == 0


def test_faulty_frames_are_not_part_of_a_cycle(tmp_path: Path) -> None:
    found = [Row(START, 1), Row(START + 5, 1, faults=1, flags=int(Flag.ERROR)), Row(START + 10, 1)]
    matches = find(recorded(tmp_path / "r.keel", batch(found)))
    assert times_of(matches, pack_key(0, 0, 1)).tolist() == [START, START + 10]


@given(rows(60), st.booleans())
@settings(max_examples=40)
def test_fault_classes_equal_the_slow_count(found: list[Row], split: bool) -> None:
    half = len(found) // 2 if split else 0
    with tempfile.TemporaryDirectory() as folder:
        parts = [batch(p) for p in (found[:half], found[half:]) if p]
        result = classes(find(recorded(Path(folder) / "r.keel", *parts)), 60 * NS_PER_S)
    assert {c.fault for c in result} == {f for f in Fault if any(r.faults & f for r in found)}
    for one in result:
        mine = [i for i, r in enumerate(found) if r.faults & one.fault]
        assert (one.count, one.first, one.last) == (len(mine), mine[0], mine[-1])
        assert (one.first_time, one.last_time) == (found[mine[0]].time, found[mine[-1]].time)
        assert one.per_minute == pytest.approx(len(mine))
        keys = [pack_key(found[i].bus, found[i].form, found[i].ident) for i in mine]
        assert keys.count(one.worst_key) == max(keys.count(k) for k in keys)


@pytest.mark.parametrize(
    "count, apart_ns, mean", [(1, 0, None), (3, 50_000, None), (2, 1_000_000, 0.2), (50, 222_000, 1.0)]
)
def test_the_load_of_a_short_recording_is_no_nonsense(
    tmp_path: Path, count: int, apart_ns: int, mean: float | None
) -> None:
    one = with_wire_bits(batch([Row(START, 0x123, b"12345678")]))
    wire = int(one.bits[0]) * 2000
    step = wire if mean == 1.0 else apart_ns
    snapshot = recorded(tmp_path / "r.keel", batch([Row(START + i * step, 0x123, b"12345678") for i in range(count)]))
    loads = bus_means(find(snapshot), snapshot.span)
    load, peak = loads[0], settled(PeakFinder().find(find(snapshot)).buses, loads, snapshot.span)[0]
    if mean is None:
        assert load.mean is None and peak is None
        assert traffic(find(snapshot), START)["buses"][0]["load_peak"] is None
    else:
        assert load.mean is not None and 0.15 < load.mean <= 1.001
        assert peak is not None and peak.load >= load.mean


def test_load_and_density_under_an_ask_are_of_its_frames(tmp_path: Path) -> None:
    found = [
        Row(START + i * 7_000_000, 0x100 + i % 4, bytes(i % 9), bus=i % 2, faults=i % 50 == 0) for i in range(3000)
    ]
    snapshot = recorded(tmp_path / "r.keel", batch(found[:1000]), batch(found[1000:]))
    for ask, kept in (
        ("id:101", lambda r: r.ident == 0x101),
        ("fault or len>6", lambda r: r.faults or len(r.payload) > 6),
        ("at:2s..5s", lambda r: 2 * NS_PER_S <= r.time - START <= 5 * NS_PER_S),
        ("id:700", lambda r: False),
    ):  # fmt: skip
        mine = [r for r in found if kept(r)]  # type: ignore[no-untyped-call]
        for cells in (1, 7, 300):
            series = Loads().series(find(snapshot, ask), snapshot.span, cells)
            seconds = snapshot.span.seconds / cells
            assert series.rate_hz.sum() * seconds == pytest.approx(len(mine))
            assert series.faults.sum() == pytest.approx(sum(r.faults != 0 for r in mine))
            assert series.load.sum() * seconds == pytest.approx(sum(map(wire_of, mine)))
