"""Readings, series and exact values lead to the field; absent things to the answer that nothing carries them."""

from __future__ import annotations

from functools import cache
from itertools import islice
from pathlib import Path

import numpy as np
import pytest
from benchmarks.vehicles.trials import Trial, marks_trials, readings_trials, series_trials
from benchmarks.vehicles.vehicle import Vehicle, vehicle

from keel.hunt.columns import Column, gather
from keel.hunt.exact import Known, find_exact
from keel.hunt.fitting import robust_lines, rounding_of
from keel.hunt.measurements import Points
from keel.hunt.readings import follow_readings
from keel.hunt.series import follow_series
from keel.hunt.snapping import snap
from keel.hunt.traffic import Traffic
from keel.model.fields import BitField, insert
from keel.store.recording import Recording
from tests.making import find

START = 1_750_000_000 * 10**9


def column(values: np.ndarray[tuple[int], np.dtype[np.int64]], field: BitField, key: int = 0x100) -> Column:
    rows = np.zeros((len(values), 8), np.uint8)
    insert(field, rows, values)
    return Column(key, START + np.arange(len(values)) * 20_000_000, rows)


def speeds() -> np.ndarray[tuple[int], np.dtype[np.float64]]:
    t = np.arange(6000) * 0.02
    return np.asarray(60 + 40 * np.sin(t / 9) + 12 * np.sin(t / 2.3))


def test_readings_give_the_field_its_scale_and_its_offset() -> None:
    truth = speeds()
    field = BitField(23, 16, "big")
    noise = np.random.default_rng(1).integers(0, 4000, 6000)
    columns = {
        1: column(noise, BitField(8, 12), 1),
        2: column(np.rint((truth + 40) / 0.125).astype(np.int64), field, 2),
    }
    moments = np.linspace(6, 115, 9)
    read = np.rint(truth[((moments - 0.4) / 0.02).astype(int)])
    read[4] += 35
    found = follow_readings(Traffic.of(columns), Points(START + (moments * 1e9).astype(np.int64), read))
    best = found.candidates[0]
    assert best.key == 2 and set(best.field.bits) <= set(field.bits)
    assert (best.scale, best.offset) == (0.125, -40.0)
    assert best.lag_s == pytest.approx(0.4, abs=0.11)
    assert "8 of 9 readings" in best.why and found.nothing_probability < 0.01


def test_too_few_readings_claim_nothing() -> None:
    traffic = Traffic.of({1: column(np.arange(600) % 200, BitField(0, 8), 1)})
    found = follow_readings(traffic, Points(np.array([START, START + 10**9]), np.array([1.0, 2.0])))
    assert found.verdict == "undecided" and found.candidates == () and "at least 3" in found.reason


def test_hundreds_of_readings_are_thinned_and_that_is_said() -> None:
    truth = speeds()
    traffic = Traffic.of({2: column(np.rint(truth / 0.1).astype(np.int64), BitField(8, 12), 2)})
    moments = np.linspace(3, 117, 300)
    read = Points(START + (moments * 1e9).astype(np.int64), np.rint(truth[(moments / 0.02).astype(int)]))
    found = follow_readings(traffic, read)
    assert found.candidates[0].scale == 0.1 and found.nothing_probability < 0.01
    assert "40 of the 300 readings" in found.notes[-1]


def test_a_series_gives_the_clock_s_offset() -> None:
    truth = speeds()
    traffic = Traffic.of({7: column(np.rint(truth / 0.05).astype(np.int64), BitField(12, 14), 7)})
    t = np.arange(20, 90, 0.2)
    log = Points(START + ((t + 1.3) * 1e9).astype(np.int64), truth[(t / 0.02).astype(int)])
    found = follow_series(traffic, log)
    best = found.candidates[0]
    assert best.lag_s == pytest.approx(1.3, abs=0.05) and best.scale == 0.05 and best.offset == 0.0
    assert "1.3" in found.notes[-1] and "ahead" in found.notes[-1]


@pytest.mark.parametrize("shift", [-41.0, -8.0, 2.7, 30.0])
def test_a_clock_that_is_far_off_is_found_and_told(shift: float) -> None:
    rng = np.random.default_rng(6)
    truth = 50 + np.cumsum(rng.normal(0, 1, 6000)) / 4
    truth = np.convolve(truth, np.ones(40) / 40, "same")
    traffic = Traffic.of({7: column(np.rint(truth / 0.02).astype(np.int64) + 2000, BitField(12, 14), 7)})
    t = np.arange(15, 100, 0.2)
    log = Points(START + ((t + shift) * 1e9).astype(np.int64), truth[(t / 0.02).astype(int)])
    found = follow_series(traffic, log)
    assert found.verdict == "found" and found.candidates[0].lag_s == pytest.approx(shift, abs=0.1)
    assert f"{abs(shift):.1f}" in found.notes[-1] or f"{abs(found.candidates[0].lag_s):.2f}" in found.notes[-1]
    assert follow_series(traffic, log, within_s=2.0).verdict != "found"


def test_a_best_fit_at_the_edge_is_said_to_be_one() -> None:
    truth = speeds()
    traffic = Traffic.of({7: column(np.rint(truth / 0.05).astype(np.int64), BitField(12, 14), 7)})
    t = np.arange(20, 90, 0.2)
    log = Points(START + ((t + 3.3) * 1e9).astype(np.int64), truth[(t / 0.02).astype(int)])
    found = follow_series(traffic, log, within_s=3.2)
    assert found.candidates and "at the edge of what was tried" in found.notes[-1]


@pytest.mark.parametrize("values", [(1, 3, 2, 5, 4, 7), (8, 2, 5, 1, 7, 3), (4, 4, 9, 2, 6, 5), (2, 7, 1, 8, 2, 8)])
def test_a_handful_of_values_at_any_offset_is_not_found(voyage: Path, values: tuple[int, ...]) -> None:
    snapshot = Recording(voyage).snapshot()
    moments = snapshot.span.start + (np.arange(8, 56, 8) * 1e9).astype(np.int64)
    few = Points(moments, np.array(values, np.float64))
    assert follow_series(Traffic.of(gather(find(snapshot))), few, within_s=300).verdict != "found"


def test_a_series_of_something_else_is_nothing() -> None:
    rng = np.random.default_rng(8)
    walks = [np.convolve(np.cumsum(rng.normal(0, 1, 6000)), np.ones(60) / 60, "same") for _ in range(7)]
    columns = {}
    for k, walk in enumerate(walks[:6]):
        raw = np.rint((walk - walk.min()) * 8).astype(np.int64)
        columns[k + 1] = column(raw, BitField(8, 14), k + 1)
    t = np.arange(10, 110, 0.5)
    log = Points(START + (t * 1e9).astype(np.int64), walks[6][(t / 0.02).astype(int)])
    found = follow_series(Traffic.of(columns), log)
    assert found.verdict == "nothing" and found.candidates == () and "trials" in found.reason


def test_rough_readings_are_never_called_nothing() -> None:
    truth = speeds()
    traffic = Traffic.of({2: column(np.rint(truth / 0.1).astype(np.int64), BitField(8, 12), 2)})
    rng = np.random.default_rng(1)
    moments = np.array([7.0, 22.0, 41.0, 60.0, 83.0, 104.0])
    read = np.rint(truth[(moments / 0.02).astype(int)] + rng.normal(0, 1, 6))
    found = follow_readings(traffic, Points(START + (moments * 1e9).astype(np.int64), read))
    assert found.verdict != "nothing" and found.candidates[0].key == 2
    reach = float(np.ptp(read))
    assert all(c.residual is not None and c.residual[0] <= 0.2 * reach for c in found.candidates[1:])


def test_an_exact_value_and_a_text_are_found_where_they_are_sent() -> None:
    values = (500 + np.arange(3000) // 7).astype(np.int64)
    rows = column(values, BitField(7, 16, "big"), 3)
    name = np.zeros((3000, 8), np.uint8)
    name[1500:1600] = np.frombuffer(b"PIER-12\0", np.uint8)
    traffic = Traffic.of({3: rows, 4: Column(4, rows.times, name)})
    number = find_exact(traffic, Known("65.0", int(rows.times[1052])))
    assert number.candidates[0].key == 3 and number.candidates[0].scale == 0.1
    text = find_exact(traffic, Known("PIER-12", int(rows.times[1550])))
    assert text.candidates[0].key == 4 and text.candidates[0].field.start == 0 and text.verdict == "found"
    assert find_exact(traffic, Known("BERTH", int(rows.times[1550]))).candidates == ()


def test_a_line_beats_a_far_point_and_a_misread_one_is_left_out() -> None:
    rng = np.random.default_rng(2)
    y = np.append(rng.normal(0, 1, 8), 50.0)
    flag = np.append(np.zeros(8), 1.0)[None, :]
    line = (y / 2)[None, :].copy()
    around = np.full((1, 9), 0.01)
    assert robust_lines(flag, around, y, 0.1, 0)[0, 0] < robust_lines(line, around, y, 0.1, 0)[0, 0] - 10
    spoilt = y.copy()
    spoilt[3] += 20
    found = robust_lines(line, around, spoilt, 0.1, 2)[0]
    assert found[1] == pytest.approx(2.0, rel=0.01) and int(found[4]) >> 3 & 1


@pytest.mark.parametrize(
    ("values", "step"), [([1, 2, 3.5], 0.5), ([10, 250, 40], 10.0), ([12, 14, 16], 2.0), ([0.25, 1.5, 9.75, 3], 0.05)]
)
def test_rounding_is_the_coarsest_step_that_fits(values: list[float], step: float) -> None:
    assert rounding_of(np.array(values)) == pytest.approx(step)


def test_scales_snap_only_as_far_as_the_evidence_allows() -> None:
    x = np.array([100.0, 300.0, 700.0, 900.0])
    field = BitField(0, 12)
    near = snap(x, x * 0.1249 - 40.01, np.full(4, 1 / 0.3**2), [(field, 0.0)], 1.0)
    assert (near.scale, near.offset) == (0.125, -40.0)
    sharp = snap(x, x * 0.1249 - 40.01, np.full(4, 1 / 1e-6**2), [(field, 0.0)], 1.0)
    assert sharp.scale == pytest.approx(0.1249, rel=1e-6)


@cache
def made(seed: int) -> tuple[Vehicle, Traffic]:
    one = vehicle(seed, seconds=150)
    return one, Traffic.of(one.columns)


def share(trials: list[Trial]) -> float:
    """How often what is there was found first, where there is enough to go by."""
    return float(np.mean([t.rank == 0 for t in trials if t.there and (not t.amount or t.amount >= 3)]))


# Together, so that the vehicle is made once.
@pytest.mark.xdist_group("vehicle")
@pytest.mark.parametrize("kind", [readings_trials, series_trials, marks_trials])
def test_evidence_on_random_vehicles_leads_to_the_field(kind: object) -> None:
    trials = list(islice(kind(*made(9001)), 7))  # type: ignore[operator]
    assert share(trials) >= 0.75
    # Neither is a carrier said not to be there, nor is one found where there is none.
    assert sum(t.verdict == "nothing" for t in trials if t.there) <= 1
    assert sum(t.verdict == "found" for t in trials if not t.there) <= 1
