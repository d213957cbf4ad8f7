"""Whatever a press does is found and called what it is; too little is undecided, and nothing is said to be nothing."""

from __future__ import annotations

import numpy as np
import pytest

from keel.hunt.candidates import Findings
from keel.hunt.columns import Column
from keel.hunt.evidence import tell_apart
from keel.hunt.marks import follow_marks
from keel.hunt.placements import PLACES, marked_at
from keel.hunt.traffic import Traffic
from keel.hunt.verdict import chance_words, judge
from keel.model.span import Mark, Span, of_try, tries_of

START = 1_750_000_000 * 10**9
CYCLE_S, SECONDS = 0.05, 150.0
PRESSES = np.array([12.0, 31.0, 44.0, 70.0, 83.0, 101.0, 118.0, 133.0])


def traffic(values: np.ndarray[tuple[int], np.dtype[np.int64]] | None, bits: int = 1) -> Traffic:
    """Twelve identifiers that go their own ways; the first also says ``values`` in the lowest bits of byte 3."""
    rng = np.random.default_rng(7)
    count = int(SECONDS / CYCLE_S)
    columns = {}
    for key in range(0x100, 0x10C):
        rows = np.zeros((count, 8), np.uint8)
        walk = np.cumsum(rng.integers(-3, 4, count))
        rows[:, 0], rows[:, 1] = walk & 255, walk >> 8 & 255
        # A switch that somebody else works, now and then.
        turns = np.sort(rng.uniform(0, SECONDS, 9))
        rows[:, 5] = np.searchsorted(turns, np.arange(count) * CYCLE_S) & 1
        if key == 0x100 and values is not None:
            rows[:, 3] = values & (1 << bits) - 1
        times = START + (np.arange(count) * CYCLE_S * 1e9).astype(np.int64) + key * 1000
        columns[key] = Column(key, times, rows)
    return Traffic.of(columns)


def spans(presses: np.ndarray[tuple[int], np.dtype[np.float64]], length: float) -> list[Span]:
    """As a person marks: up to half a second off."""
    hand = np.random.default_rng(3).uniform(-0.45, 0.45, (len(presses), 2))
    low, high = presses + hand[:, 0], presses + length + hand[:, 1]
    return [Span(START + int(a * 1e9), START + int(max(b, a + 0.2) * 1e9)) for a, b in zip(low, high, strict=True)]


def said(
    shape: str, presses: np.ndarray[tuple[int], np.dtype[np.float64]]
) -> np.ndarray[tuple[int], np.dtype[np.int64]]:
    """What a field of some shape says when these presses of 1.6 s are made."""
    t = np.arange(int(SECONDS / CYCLE_S)) * CYCLE_S
    begun = np.searchsorted(presses + 0.06, t, "right")
    if shape == "hold":
        return np.asarray(begun - np.searchsorted(presses + 1.66, t, "right"))
    if shape == "pulse":
        return np.asarray(np.searchsorted(presses + 0.5, t, "right") - np.searchsorted(presses + 0.75, t, "right"))
    return np.asarray(begun % (2 if shape == "flip" else 5))


def follow(shape: str, count: int, more: int = 0) -> Findings:
    presses = PRESSES[: count + more]
    return follow_marks(traffic(said(shape, presses), 3 if shape == "step" else 1), spans(presses[:count], 1.6))


@pytest.mark.parametrize("shape", ["hold", "flip", "step", "pulse"])
@pytest.mark.parametrize(("count", "more"), [(5, 0), (6, 2)])
def test_what_a_press_does_is_found_and_named(shape: str, count: int, more: int) -> None:
    found = follow(shape, count, more)
    assert found.verdict == "found" and found.nothing_probability < 0.02
    best = found.candidates[0]
    assert (best.key, best.field.start, best.shape) == (0x100, 24, shape)
    assert "1 in 241 by chance" in found.chance and "0.0" not in found.sentence
    assert f"{count} of {count} spans" in best.why
    assert ("nowhere else" in best.why) == (more == 0)


def test_frames_that_are_sent_only_then_are_found() -> None:
    whole = traffic(None)
    moments = np.concatenate([np.arange(p + 0.1, p + 1.5, 0.1) for p in PRESSES[:5]])
    rows = np.tile(np.frombuffer(b"\x0f\x00\x01", np.uint8), (len(moments), 1))
    columns = {**whole.columns, 0x300: Column(0x300, START + (moments * 1e9).astype(np.int64), rows)}
    found = follow_marks(Traffic.of(columns), spans(PRESSES[:5], 1.6))
    best = found.candidates[0]
    assert found.verdict == "found" and (best.key, best.shape, best.field.length) == (0x300, "frames", 24)


def test_a_switch_comes_before_the_quantity_that_follows_it() -> None:
    switch = said("hold", PRESSES[:5])
    whole = traffic(switch)
    rows = whole.columns[0x101].payloads.copy()
    pressure = np.convolve(switch * 180.0, np.ones(6) / 6)[: len(switch)]
    rows[:, 6] = pressure + np.random.default_rng(2).integers(0, 6, len(switch)) * (pressure > 0)
    columns = {**whole.columns, 0x101: Column(0x101, whole.columns[0x101].times, rows)}
    found = follow_marks(Traffic.of(columns), spans(PRESSES[:5], 1.6))
    assert found.candidates[0].key == 0x100
    assert 0x101 in {c.key for c in found.candidates}


def test_the_bit_that_acts_is_named_and_not_the_bits_about_it() -> None:
    whole = traffic(None)
    rows = whole.columns[0x100].payloads.copy()
    count = len(rows)
    restless = np.random.default_rng(4).integers(0, 128, count)
    rows[:, 3] = restless | said("flip", PRESSES[:6]) << 7
    columns = {**whole.columns, 0x100: Column(0x100, whole.columns[0x100].times, rows)}
    best = follow_marks(Traffic.of(columns), spans(PRESSES[:6], 1.6)).candidates[0]
    assert (best.key, best.field.bits) == (0x100, (31,))


def test_one_press_is_undecided_and_what_would_decide_it_is_said() -> None:
    found = follow("hold", 1)
    assert found.verdict == "undecided" and 0.2 <= found.nothing_probability <= 0.8
    assert 0x100 in {c.key for c in found.candidates[:3]}
    assert "more press" in found.reason and "would decide it" in found.reason
    assert "none proved" in found.sentence


def test_nothing_is_said_only_with_its_reason_and_where_a_carrier_would_have_shown() -> None:
    many = follow_marks(traffic(None), spans(PRESSES, 1.6))
    assert many.verdict == "nothing" and many.candidates == () and many.nothing_probability > 0.8
    assert "8 presses" in many.reason and "stands out" in many.reason
    assert follow_marks(traffic(None), spans(PRESSES[:1], 1.6)).verdict == "undecided"


def test_what_tells_two_shapes_apart_is_to_hold() -> None:
    whole = traffic(said("hold", PRESSES[:1]))
    found = follow_marks(whole, spans(PRESSES[:1], 1.6)).candidates
    hold = next(c for c in found if c.shape == "hold")
    other = next((c for c in found if c.shape != "hold"), None)
    assert other is not None
    words = tell_apart(whole, hold, other, START).words
    assert "hold for 3 s" in words and "stays so as long as you hold" in words


def test_other_places_of_the_marks_keep_their_lengths_and_do_not_overlap() -> None:
    marked = marked_at(np.array([5.0, 20.0, 24.0]), np.array([6.0, 23.5, 25.0]), 120.0)
    assert marked.starts.shape == (PLACES + 1, 3) and marked.starts[0].tolist() == [5.0, 20.0, 24.0]
    lengths = np.sort(marked.ends - marked.starts, axis=1)
    assert np.allclose(lengths, np.sort(lengths[0]))
    assert (marked.starts[:, 1:] >= marked.ends[:, :-1] - 1e-9).all()
    assert marked.starts.min() >= 0 and marked.ends.max() <= 120 + 1e-9


def test_what_is_done_elsewhere_counts_against_it() -> None:
    marked = marked_at(np.array([10.0, 40.0]), np.array([11.0, 41.0]), 200.0)
    never = marked.rate(np.zeros(marked.starts.shape, np.bool_), 0.01)
    often = np.random.default_rng(1).random(marked.starts.shape) < 0.5
    assert (never < 0.02).all() and np.median(marked.rate(often, 0.01)) == pytest.approx(0.5, abs=0.12)
    assert marked.earliest[0].tolist() == [9.4, 39.4] and marked.latest[0].tolist() == [11.6, 41.6]


def test_a_margin_over_chance_is_said_in_true_words() -> None:
    assert chance_words(1 / 241, 241) == "less than 1 in 241 by chance"
    assert chance_words(0.025, 241) == "1 in 40 by chance"
    assert chance_words(0.4, 241) == "40 in 100 by chance"


def test_verdicts_need_both_chance_and_power() -> None:
    chance = np.linspace(0, 4, 240)
    sure, unsure = np.full(50, 20.0), np.full(50, 3.0)
    assert judge(10.0, chance, sure, 3.0).verdict == "found"
    assert judge(2.0, chance, sure, 3.0).verdict == "nothing"
    assert judge(2.0, chance, unsure, 3.0).verdict == "undecided"
    assert judge(10.0, chance, sure, 3.0, possible=False).verdict != "found"
    assert judge(2.0, chance, sure, 3.0, possible=True).verdict == "undecided"
    assert judge(5.0, np.zeros(0), sure).verdict == "undecided"
    # Beyond all tries chance goes on as extremes do, and no further than can be said.
    far = judge(40.0, np.random.default_rng(0).gumbel(0, 1, 60), sure, extend=True)
    assert far.verdict == "found" and far.chance == pytest.approx(1 / (61 * 25))


def test_marks_belong_to_tries_of_which_the_last_is_used() -> None:
    marks = [Mark(1, 10), Mark(2, 20), Mark(3, 30, of="ramp"), Mark(4, 40, of="ramp"), Mark(5, 50, of="door")]
    assert tries_of(marks) == ["", "ramp", "door"]
    assert [m.number for m in of_try(marks)] == [5]
    assert [m.number for m in of_try(marks, "ramp")] == [3, 4] and [m.number for m in of_try(marks, "")] == [1, 2]
    assert of_try([]) == [] and tries_of([]) == []


@pytest.mark.parametrize("seed", range(12))
def test_any_marks_over_any_little_traffic_get_an_answer(seed: int) -> None:
    rng = np.random.default_rng(seed)
    columns = {}
    for key in range(int(rng.integers(1, 4))):
        count = int(rng.integers(1, 40))
        times = START + np.sort(rng.integers(0, 3 * 10**9, count))
        columns[key] = Column(key, times, rng.integers(0, 3, (count, int(rng.integers(0, 9)))).astype(np.uint8))
    edges = np.sort(rng.integers(-(10**9), 4 * 10**9, 2 * int(rng.integers(1, 6))))
    marked = [Span(START + int(a), START + int(b)) for a, b in edges.reshape(-1, 2)]
    found = follow_marks(Traffic.of(columns), marked)
    assert found.verdict in ("found", "undecided", "nothing") and found.sentence
    assert 0 <= found.nothing_probability <= 1 and (found.verdict != "nothing" or not found.candidates)
