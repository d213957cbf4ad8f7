"""What follows the marks is found; what does not is not invented."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from keel.bench.ferry import Ferry
from keel.bench.messages import BUSES, full_dictionary
from keel.errors import InputError
from keel.hunt.columns import flip_shares, flips, gather
from keel.hunt.fields import join_bits, read_as_number
from keel.hunt.marks import Findings, follow_marks, scores
from keel.hunt.spans import read_spans
from keel.hunt.structure import counter_bits
from keel.model.fields import BitField, insert
from keel.model.frames import batch_of, concat
from keel.model.identity import pack_key
from keel.model.span import Span
from keel.model.units import NS_PER_S
from keel.store.manifest import Manifest
from keel.store.recording import Recording
from keel.store.writer import Writer, create_recording
from tests.making import START, Row, batch, find, recorded


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
    return follow_marks(find(Recording(folder).snapshot()), spans)


def truth(message: str, signal: str) -> tuple[int, BitField]:
    for known in full_dictionary().messages:
        for one in known.signals:
            if (known.name, one.name) == (message, signal):
                return pack_key(0 if known.bus == "A" else 1, known.form, known.ident), one.field
    raise AssertionError


@pytest.mark.parametrize("seed", range(3))
def test_the_ramp_s_angle_and_command_rank_on_top(tmp_path: Path, seed: int) -> None:
    findings = sail(tmp_path / "v.keel", seed, "ramp", ["down", "up", "down"], "stop")
    assert findings.nothing_probability <= 0.01
    top = [(c.key, c.field) for c in findings.candidates[:2]]
    assert top == [truth("BowRampState", "angle"), truth("BowRampPanel", "command")]
    assert all("3 of 3 spans and nowhere else" in c.why for c in findings.candidates[:2])


def test_the_thruster_s_fields_are_found(tmp_path: Path) -> None:
    findings = sail(tmp_path / "v.keel", 4, "thruster", ["port", "starboard", "port"], "off")
    found = {(c.key, c.field) for c in findings.candidates[:4]}
    assert {truth("ThrusterCommand", "way")[0], truth("ThrusterState", "current")[0]} <= {key for key, _ in found}


@pytest.mark.parametrize("seed", range(8))
def test_a_dead_button_is_not_found(tmp_path: Path, seed: int) -> None:
    values = ["down", "up"] * (1 + seed % 3)
    findings = sail(tmp_path / "v.keel", seed + 20, "ramp", values, "stop", dead=True)
    assert findings.candidates == ()
    assert findings.nothing_probability > 0.01
    assert "nothing follows the marks" in findings.verdict


def test_without_marks_nothing_is_claimed(tmp_path: Path) -> None:
    snapshot = recorded(tmp_path / "r.keel", batch([Row(START, 1, b"a"), Row(START + 10, 1, b"b")]))
    findings = follow_marks(find(snapshot), [])
    assert (findings.nothing_probability, findings.candidates) == (1.0, ())
    elsewhere = follow_marks(find(snapshot), [Span(0, 10)])
    assert elsewhere.candidates == () and elsewhere.nothing_probability == 1.0


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
    return follow_marks(find(snapshot), spans), int(values.max()).bit_length()


@pytest.mark.parametrize(
    "field",
    [
        BitField(0, 16),
        BitField(7, 16, "big"),
        BitField(12, 12),
        BitField(11, 12, "big"),
        BitField(16, 8),
        BitField(8, 24),
    ],
)
def test_the_byte_order_and_place_of_a_number_are_found(tmp_path: Path, field: BitField) -> None:
    findings, used = made(tmp_path / "r.keel", field)
    best = findings.candidates[0]
    assert best.key == pack_key(0, 0, 0x200)
    # The low bits are where they are; how far up a number reaches shows only as far as it went.
    assert best.field.bits[:used] == field.bits[:used] or (used < 8 and set(best.field.bits) >= set(field.bits[:used]))
    crosses = len({bit // 8 for bit in field.bits[:used]}) > 1
    assert best.field.order == field.order or not crosses


def test_only_the_frames_asked_for_are_searched(tmp_path: Path, voyage: Path) -> None:
    snapshot = Recording(voyage).snapshot()
    start = snapshot.span.start
    spans = [Span(start + int(a * 1e9), start + int(b * 1e9)) for a, b in ((19.7, 24.4), (34.6, 38.3))]
    findings = follow_marks(find(snapshot, "id:221"), spans)
    assert findings.identifiers == 1
    assert {c.key for c in findings.candidates} == {truth("BowRampPanel", "command")[0]}


def test_a_search_that_is_given_up_claims_nothing(voyage: Path) -> None:
    snapshot = Recording(voyage).snapshot()
    span = Span(snapshot.span.start + 19 * NS_PER_S, snapshot.span.start + 25 * NS_PER_S)
    assert follow_marks(find(snapshot), [span], lambda: True).candidates == ()


def test_scores_reward_hits_and_punish_what_happens_elsewhere() -> None:
    bins = np.array([[10, 20], [50, 60]])
    table = np.zeros((4, 100), np.uint8)
    table[0, [12, 14, 52, 55]] = 1  # in both spans, nowhere else
    table[1, [12, 14, 13, 15]] = 1  # in one
    table[2, [12, 52, 30, 40, 70, 80, 90]] = 1  # in both, but elsewhere too
    score, hit, share = scores(table, bins)
    assert hit.tolist() == [1.0, 0.5, 1.0, 0.0]
    assert share[0] == 1.0 and share[2] == pytest.approx(2 / 7)
    assert score[0] == pytest.approx(0.8) and score[0] > score[1] > score[2] >= score[3] == 0


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


def test_counters_are_known_and_numbers_are_not_taken_for_them() -> None:
    n = np.arange(600)
    payloads = np.zeros((600, 4), np.uint8)
    payloads[:, 0] = n & 0xFF
    payloads[:, 1] = (n >> 8) & 0xFF
    payloads[:, 2] = (n & 0x0F) << 4
    payloads[:, 3] = 100 + 50 * np.sin(n / 30)
    found = np.flatnonzero(counter_bits(payloads))
    assert set(range(10)) <= set(found) and {20, 21, 22, 23} <= set(found)
    assert not {24, 25, 26, 27, 28, 29, 30, 31} & set(found)


def test_neighbours_join_in_the_order_that_makes_a_number() -> None:
    follows = np.zeros(24, np.bool_)
    counts = np.zeros(24, np.int64)
    # Big-endian, byte 0 above byte 1: the lowest bit, 8, flips most.
    for place, bit in enumerate([8, 9, 10, 11, 12, 13, 14, 15, 0, 1, 2]):
        follows[bit], counts[bit] = True, 2000 >> place
    values = np.minimum(np.arange(2048), 2047)
    payloads = np.zeros((2048, 3), np.uint8)
    insert(BitField(2, 11, "big"), payloads, values)
    (field,) = join_bits(follows, follows, counts, payloads)
    assert (field.order, field.bits[:11]) == ("big", (8, 9, 10, 11, 12, 13, 14, 15, 0, 1, 2))


def test_a_number_that_crosses_zero_is_signed() -> None:
    values = (60 * np.sin(np.arange(300) / 20)).astype(np.int8)
    payloads = values.view(np.uint8)[:, None]
    assert read_as_number(BitField(0, 8), payloads).signed
    assert not read_as_number(BitField(0, 8), np.abs(values).view(np.uint8)[:, None]).signed


def test_spans_are_read_from_lines(tmp_path: Path) -> None:
    path = tmp_path / "m.csv"
    path.write_text("# pressed\n1.5, 2.25\n\n10,11 # again\n")
    assert read_spans(path, 1000) == [Span(1_500_001_000, 2_250_001_000), Span(10_000_001_000, 11_000_001_000)]


@pytest.mark.parametrize("text", ["1.5", "a,b", "1,2,3", "5,4", "1,nan"])
def test_bad_lines_of_spans_are_named(tmp_path: Path, text: str) -> None:
    path = tmp_path / "m.csv"
    path.write_text("0,1\n" + text + "\n")
    with pytest.raises(InputError, match="line 2"):
        read_spans(path, 0)
