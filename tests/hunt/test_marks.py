"""What follows the marks is found; what does not is not invented."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from keel.bench.ferry import Ferry
from keel.bench.messages import BUSES, full_dictionary
from keel.hunt.candidates import Findings
from keel.hunt.columns import flip_shares, flips, gather
from keel.hunt.marks import follow_marks
from keel.hunt.placements import placed
from keel.hunt.shapes import fits_of
from keel.hunt.states import states_of
from keel.hunt.traffic import Traffic
from keel.model.fields import BitField, insert
from keel.model.frames import batch_of, concat
from keel.model.identity import pack_key
from keel.model.span import Span
from keel.model.units import NS_PER_S
from keel.store.manifest import Manifest
from keel.store.recording import Recording, Snapshot
from keel.store.writer import Writer, create_recording
from tests.making import START, Row, batch, find, recorded


def follow(snapshot: Snapshot, spans: list[Span], ask: str = "") -> Findings:
    return follow_marks(Traffic.of(gather(find(snapshot, ask))), spans)


def sail(folder: Path, seed: int, control: str, values: list[str], rest: str, dead: bool = False) -> Findings:
    """A voyage on which something is worked a few times between marks, and what the hunt says of it."""
    create_recording(folder, Manifest("voyage", "bench", 0, buses=list(BUSES)))
    writer = Writer(folder, journal=False)
    ferry = Ferry(seed)
    if dead:
        ferry.set("fault-panel", "on")
    hand = np.random.default_rng(seed)
    writer.append(ferry.advance(12))
    spans = []
    for value in values:
        begin = ferry.elapsed_s
        writer.append(ferry.advance(0.3 + 0.5 * hand.random()))
        ferry.set(control, value)
        writer.append(ferry.advance(2.5 + 2 * hand.random()))
        ferry.set(control, rest)
        writer.append(ferry.advance(0.6))
        spans.append(Span(ferry.start_ns + int(begin * 1e9), ferry.start_ns + int(ferry.elapsed_s * 1e9)))
        writer.append(ferry.advance(4 + 7 * hand.random()))
    writer.append(ferry.advance(10))
    writer.close()
    return follow(Recording(folder).snapshot(), spans)


def truth(message: str, signal: str) -> tuple[int, BitField]:
    for known in full_dictionary().messages:
        for one in known.signals:
            if (known.name, one.name) == (message, signal):
                return pack_key(0 if known.bus == "A" else 1, known.form, known.ident), one.field
    raise AssertionError


@pytest.mark.parametrize("seed", range(3))
def test_the_ramp_s_angle_and_command_rank_on_top(tmp_path: Path, seed: int) -> None:
    findings = sail(tmp_path / "v.keel", seed, "ramp", ["down", "up", "down"], "stop")
    assert findings.verdict == "found" and findings.nothing_probability < 0.2
    top = [(c.key, c.field) for c in findings.candidates[:2]]
    assert set(top) == {truth("BowRampState", "angle"), truth("BowRampPanel", "command")}


@pytest.mark.parametrize("seed", range(3))
def test_a_dead_button_is_not_found(tmp_path: Path, seed: int) -> None:
    values = ["down", "up"] * (1 + seed % 3)
    findings = sail(tmp_path / "v.keel", seed + 20, "ramp", values, "stop", dead=True)
    assert findings.verdict != "found"
    if len(values) > 4:
        assert findings.verdict == "nothing" and findings.nothing_probability > 0.5 and not findings.candidates
        assert "nothing carries it" in findings.sentence and "press" in findings.reason


def test_without_marks_nothing_is_claimed(tmp_path: Path) -> None:
    snapshot = recorded(tmp_path / "r.keel", batch([Row(START, 1, b"a"), Row(START + 10, 1, b"b")]))
    findings = follow(snapshot, [])
    assert (findings.verdict, findings.candidates) == ("undecided", ()) and "no marks" in findings.reason
    elsewhere = follow(snapshot, [Span(0, 10)])
    assert elsewhere.candidates == () and "no mark lies where" in elsewhere.reason


def made(folder: Path, field: BitField, seconds: int = 90, seed: int = 5) -> tuple[Findings, int]:
    """A field of any kind that moves in three spans, among noise and a counter, in a message of 8 bytes."""
    rng = np.random.default_rng(seed)
    count = seconds * 20
    times = START + np.arange(count) * 50_000_000
    payloads = np.zeros((count, 8), np.uint8)
    payloads[:, 7] = np.arange(count) & 0xFF
    payloads[:, 6] = rng.integers(0, 256, count)
    values = np.zeros(count, np.int64)
    spans, at, level = [], 200, 0
    for _ in range(3):
        length = int(rng.integers(60, 100))
        move = np.linspace(0, (1 << (field.length - 1)) * 0.9 * rng.choice([0.6, 0.9]), length).astype(np.int64)
        values[at : at + length] = move if level == 0 else move[::-1]
        values[at + length :] = values[at + length - 1]
        level = 1 - level
        spans.append(Span(int(times[at]), int(times[at + length - 1])))
        at += length + int(rng.integers(180, 320))
    insert(field, payloads, values)
    quiet = batch_of(times + 7, 0x300, rng.integers(0, 256, (count, 8)).astype(np.uint8))
    moving = batch_of(times, 0x200, payloads)
    whole = concat([moving, quiet])
    snapshot = recorded(folder, whole.take(np.argsort(whole.time, kind="stable")))
    return follow(snapshot, spans), int(values.max()).bit_length()


@pytest.mark.parametrize("field", [BitField(0, 16), BitField(7, 16, "big"), BitField(12, 12), BitField(16, 8)])
def test_the_byte_order_and_place_of_a_number_are_found(tmp_path: Path, field: BitField) -> None:
    findings, used = made(tmp_path / "r.keel", field)
    best = findings.candidates[0]
    assert best.key == pack_key(0, 0, 0x200)
    # How far up a number reaches shows only as far as it went; its lowest bits may be taken for noise.
    mine, its = set(best.field.bits), set(field.bits[:used])
    assert len(mine & its) / len(mine | its) >= 0.75


def test_only_the_frames_asked_for_are_searched(voyage: Path) -> None:
    snapshot = Recording(voyage).snapshot()
    start = snapshot.span.start
    spans = [Span(start + int(a * 1e9), start + int(b * 1e9)) for a, b in ((19.7, 24.4), (34.6, 38.3))]
    findings = follow(snapshot, spans, "id:221")
    assert findings.identifiers == 1
    assert {c.key for c in findings.candidates} <= {truth("BowRampPanel", "command")[0]}


def test_a_search_that_is_given_up_claims_nothing(voyage: Path) -> None:
    snapshot = Recording(voyage).snapshot()
    span = Span(snapshot.span.start + 19 * NS_PER_S, snapshot.span.start + 25 * NS_PER_S)
    traffic = Traffic.of(gather(find(snapshot)))
    assert follow_marks(traffic, [span], lambda: True).candidates == ()


def test_a_flag_in_step_weighs_more_than_one_that_goes_its_own_way(tmp_path: Path) -> None:
    times = START + np.arange(1000) * 50_000_000
    payloads = np.zeros((1000, 1), np.uint8)
    for first in (200, 500, 800):
        payloads[first : first + 60, 0] |= 1
    payloads[100:400, 0] |= 2
    payloads[::2, 0] |= 0
    snapshot = recorded(tmp_path / "r.keel", batch_of(times, 0x10, payloads))
    traffic = Traffic.of(gather(find(snapshot)))
    spans = [Span(int(times[i]), int(times[i + 60])) for i in (200, 500, 800)]
    marked = placed(spans, int(times[0]), int(times[-1]))
    best = {
        c.field.start: max(fit.nats for s in states_of(c, int(times[0])) for fit in fits_of(s, marked))
        for c in traffic.carriers
    }
    assert best[0] > 5 > 0 > best[1]


def test_flips_are_counted_per_bit_and_stretch(tmp_path: Path) -> None:
    found = [Row(START + i * 10, 1, bytes([i & 1, 0x80 if i >= 5 else 0])) for i in range(10)]
    column = gather(find(recorded(tmp_path / "r.keel", batch(found))))[pack_key(0, 0, 1)]
    edges = np.array([START, START + 50, START + 100])
    changed = flips(column, edges)
    assert changed[0].tolist() == [1, 1] and changed[15].tolist() == [0, 1]
    assert changed.sum() == 3
    shares = flip_shares(column, edges)
    assert shares[0, 0] == shares[1, 0] == 1.0 and shares[1, 15] == pytest.approx(1 / 5)


def test_gather_leaves_faulty_and_odd_sized_frames_out(tmp_path: Path) -> None:
    found = [
        Row(START, 1, b"ab"),
        Row(START + 1, 1, b"a"),
        Row(START + 2, 1, b"cd", faults=1),
        Row(START + 3, 1, b"ef"),
    ]
    column = gather(find(recorded(tmp_path / "r.keel", batch(found))))[pack_key(0, 0, 1)]
    assert [bytes(p) for p in column.payloads] == [b"ab", b"ef"]


def test_a_long_identifier_is_thinned_evenly_and_its_blocks_are_unbroken(tmp_path: Path) -> None:
    count = 40_000
    payloads = np.stack([np.arange(count) & 255, np.arange(count) >> 8], axis=1).astype(np.uint8)
    halves = [batch_of(START + np.arange(a, b) * 1000, 1, payloads[a:b]) for a, b in ((0, 15_001), (15_001, count))]
    column = gather(find(recorded(tmp_path / "r.keel", *halves)), most=9000)[pack_key(0, 0, 1)]
    assert column.every == 5
    numbers = column.payloads[:, 0] + 256 * column.payloads[:, 1].astype(int)
    assert (numbers == np.arange(0, count, 5)).all()
    inside = column.consecutive[:, 0] + 256 * column.consecutive[:, 1].astype(int)
    assert len(inside) == 32_000 and (np.diff(inside) == 1).sum() >= 32_000 - 8
