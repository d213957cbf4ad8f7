"""Two recordings side by side: each kind of difference is found, equal ones have none, and reports are harmless."""

from __future__ import annotations

import json
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from keel.compare.buses import pair_buses, pair_given
from keel.compare.differences import Comparison, compare
from keel.compare.drawn import courses_of
from keel.compare.report import as_html, as_json, as_lines
from keel.compare.sides import Side, align, together
from keel.draw.comparison_charts import drawings_of
from keel.errors import InputError
from keel.model.bus import Bus
from keel.model.fields import BitField
from keel.model.frames import FrameBatch, batch_of, concat
from keel.model.identity import Form, pack_key
from keel.model.span import Mark, Span
from keel.signals.dictionary import Dictionary, Message, Signal
from keel.store.manifest import Manifest, edit_manifest
from keel.store.recording import Recording, Snapshot
from keel.store.writer import Writer, create_recording
from tests.making import START, new_recording, recorded

SPEED = Signal("speed", BitField(0, 8), unit="<b>")
GEAR = Signal("gear", BitField(8, 2), texts={0: "park", 1: "drive", 2: "<script>"})
TEMPERATURE = Signal("temperature", BitField(16, 8), absent=((255, 255),))
BOOK = Dictionary((Message("a", Form.BASE, 0x100, "Drive", (SPEED, GEAR, TEMPERATURE)),))
SECONDS = 20


def stream(ident: int, every_ms: float, payload: Any, first_ms: float = 0.0, **more: Any) -> FrameBatch:
    """Frames of one identifier; ``payload`` makes bytes of the running number."""
    count = int(SECONDS * 1000 / every_ms)
    times = START + (np.arange(count) * every_ms * 1e6 + first_ms * 1e6).astype(np.int64)
    return batch_of(times, ident, [bytes(payload(i)) for i in range(count)], **more)


def drive(i: int) -> list[int]:
    return [i // 20 % 50, 1, 20]


def joined(*streams: FrameBatch) -> FrameBatch:
    whole = concat(streams)
    return whole.take(np.argsort(whole.time, kind="stable"))


def made(folder: Path, *streams: FrameBatch) -> Snapshot:
    return recorded(folder, joined(*streams), dictionary=BOOK)


@pytest.fixture
def good(tmp_path: Path) -> Snapshot:
    return made(
        tmp_path / "good.keel",
        stream(0x100, 10, drive),
        stream(0x200, 50, lambda i: [i % 4, i % 7]),
        stream(0x300, 100, lambda i: [7]),
    )


def against(good: Snapshot, bad: Snapshot, ask: str = "") -> Comparison:
    a, b = Side.of(good, ask), Side.of(bad, ask)
    return compare(together(a, b))


def kinds(found: Comparison) -> set[tuple[str, str, str]]:
    return {(d["kind"], d["id"] or "", d["signal"] or "") for d in as_json(found)["differences"]}


def test_a_recording_does_not_differ_from_itself(good: Snapshot) -> None:
    assert against(good, good).differences == ()


def test_every_kind_of_difference_is_found(good: Snapshot, tmp_path: Path) -> None:
    def other(i: int) -> list[int]:
        return [i // 20 % 50 + (100 if i == 1500 else 0), 2 if 700 < i < 900 else 1, 255 if i % 50 == 0 else 20]

    late = stream(0x200, 60, lambda i: [0, i % 7])
    keep = (late.time < START + 8 * 10**9) | (late.time > START + 10 * 10**9)
    faulty = np.zeros(200, np.uint32)
    faulty[50:60] = 1
    bad = made(
        tmp_path / "bad.keel",
        stream(0x100, 10, other),
        late.take(np.flatnonzero(keep)),
        stream(0x300, 100, lambda i: [7, 0], faults=faulty),
        stream(0x400, 100, lambda i: [1]),
    )
    found = against(good, bad)
    expected = {
        ("only_in_b", "400", ""),
        ("cycle", "200", ""),
        ("gap", "200", ""),
        ("length", "300", ""),
        ("stopped_moving", "200", ""),
        ("started_moving", "100", "temperature"),
        ("range", "100", "speed"),
        ("state", "100", "gear"),
        ("not_available", "100", "temperature"),
        ("faults", "300", ""),
    }
    assert expected <= kinds(found)
    by_kind = {d.kind: d for d in found.differences}
    state, spike = by_kind["state"], by_kind["range"]
    gap = next(d for d in found.differences if d.kind == "gap" and d.key == pack_key(0, Form.BASE, 0x200))
    assert state.time_b == START + 701 * 10_000_000 and state.time_a is None
    assert gap.time_b is not None and abs(gap.time_b - (START + 8 * 10**9)) < 10**8
    assert spike.time_b is not None and abs(spike.time_b - (START + 15 * 10**9)) < 10**8
    scores = [d.score for d in found.differences]
    assert scores == sorted(scores, reverse=True) and all(0 < s <= 1 for s in scores)
    # Turned round, what is only in one is only in the other.
    assert ("only_in_a", "400", "") in kinds(against(bad, good))


def test_the_ask_narrows_both_sides(good: Snapshot, tmp_path: Path) -> None:
    bad = made(tmp_path / "bad.keel", stream(0x100, 20, drive), stream(0x200, 80, lambda i: [i % 4, i % 7]))
    assert {k[1] for k in kinds(against(good, bad, "id:200"))} == {"200"}
    unusable = against(good, bad, "not Drive.nosuch>3")
    assert "no signal is called" in unusable.both.problem and unusable.differences == ()
    assert "not compared: the ask cannot be put to this" in "\n".join(as_lines(unusable))


def test_checks_that_come_out_otherwise_are_told(good: Snapshot, tmp_path: Path) -> None:
    with edit_manifest(tmp_path / "good.keel") as manifest:
        manifest.checks = ["count(id:300) > 150"]
    bad = made(tmp_path / "bad.keel", stream(0x100, 10, drive), stream(0x300, 200, lambda i: [7]))
    found = against(Recording(tmp_path / "good.keel").snapshot(), bad)
    assert any(d.kind == "check" and d.a.startswith("passed") and d.b.startswith("failed") for d in found.differences)


@pytest.mark.parametrize("late_s", [3.0, -2.5])
def test_traffic_is_laid_over_traffic(tmp_path: Path, late_s: float) -> None:
    rng = np.random.default_rng(5)
    steps = np.cumsum(rng.random(4000) < 0.01) % 200

    def course(first: int) -> Any:
        return lambda i: [int(steps[(i + first) % len(steps)]), i % 16]

    a = made(tmp_path / "a.keel", stream(0x100, 10, course(500)))
    b = made(tmp_path / "b.keel", stream(0x100, 10, course(500 + int(late_s * 100))))
    found = align(Side.of(a), Side.of(b), "traffic")
    # What B shows at its start A shows so much later.
    assert found.by == "traffic" and found.offset_ns / 1e9 == pytest.approx(late_s, abs=0.1)


def test_marks_lay_recordings_over_each_other_where_they_share_one(good: Snapshot, tmp_path: Path) -> None:
    for name, time in (("good", START + 4 * 10**9), ("other", START + 9 * 10**9)):
        if name == "other":
            made(tmp_path / "other.keel", stream(0x100, 10, drive))
        with edit_manifest(tmp_path / f"{name}.keel") as manifest:
            manifest.marks = [Mark(1 if name == "good" else 2, time), Mark(3, time)]
    a, b = (Side.of(Recording(tmp_path / f"{n}.keel").snapshot()) for n in ("good", "other"))
    assert align(a, b, "mark").offset_ns == -5 * 10**9
    assert (
        "no mark of the same number" in align(a, Side.of(made(tmp_path / "x.keel", stream(1, 10, drive))), "mark").words
    )


def test_spans_of_one_recording_are_compared(good: Snapshot) -> None:
    halves = [Span(START, START + 10**10), Span(START + 10**10, START + 2 * 10**10)]
    a, b = (Side.of(good, "", span) for span in halves)
    assert align(a, b).offset_ns == -(10**10)
    assert compare(together(a, b)).differences == ()


class Tags(HTMLParser):
    """The tags of a page."""

    def __init__(self) -> None:
        super().__init__()
        self.tags: list[str] = []

    def handle_starttag(self, tag: str, attrs: object) -> None:
        self.tags.append(tag)


def test_reports_hold_everything_and_run_nothing(good: Snapshot, tmp_path: Path) -> None:
    def other(i: int) -> list[int]:
        return [i // 20 % 90, 2 if 700 < i < 900 else 1, 20]

    bad = made(tmp_path / "bad.keel", stream(0x100, 10, other), stream(0x200, 50, lambda i: [i % 4, i % 7]))
    found = against(good, bad)
    data = json.loads(json.dumps(as_json(found)))
    assert set(data) == {"a", "b", "aligned", "buses", "notes", "problem", "differences"}
    assert data["a"]["name"] == "good"
    page = as_html(found, drawings_of(found))
    parser = Tags()
    parser.feed(page)
    assert "script" not in parser.tags and "b" not in parser.tags and parser.tags.count("svg") >= 2
    assert "&lt;script&gt;" in page and page.count("<?xml") == 0
    assert any("gear is “<script>” only in the other" in line for line in as_lines(found))


def test_each_difference_has_something_to_draw(good: Snapshot, tmp_path: Path) -> None:
    bad = made(
        tmp_path / "bad.keel", stream(0x100, 20, lambda i: [i % 50, 1, 20]), stream(0x300, 100, lambda i: [i & 9])
    )
    found = against(good, bad)
    assert {d.kind for d in found.differences} >= {"only_in_a", "cycle", "started_moving"}
    for difference in found.differences:
        title, courses = courses_of(found, difference, 100)
        assert title and courses and all(np.isfinite(e.most).any() for _, e in courses)


def test_a_constant_that_differs_comes_first(good: Snapshot, tmp_path: Path) -> None:
    bad = made(
        tmp_path / "bad.keel",
        stream(0x100, 10, lambda i: [i // 20 % 50, 1 | 0x40, 20]),
        stream(0x200, 50, lambda i: [i % 4, i % 7]),
        stream(0x300, 100, lambda i: [9]),
        stream(0x400, 100, lambda i: [1]),
    )
    first = as_json(against(good, bad))["differences"][:2]
    assert [(d["kind"], d["id"], d["field"]["start"], d["field"]["length"]) for d in first] == [
        ("constant", "100", 14, 1),
        ("constant", "300", 0, 8),
    ]
    assert first[0]["a"] == "0 in all 2000" and first[0]["b"] == "1 in all 2000" and first[0]["score"] == 1.0
    assert first[1]["why"] == "byte 0 of 300 is always 07 in this and always 09 in the other"
    # Seen from the other side it is the same.
    turned = as_json(against(bad, good))["differences"][:2]
    assert [(d["id"], d["a"], d["b"]) for d in turned] == [
        ("100", "1 in all 2000", "0 in all 2000"),
        ("300", "09 in all 200", "07 in all 200"),
    ]


def test_a_constant_beyond_the_first_64_bytes_is_seen(tmp_path: Path) -> None:
    a = made(tmp_path / "a.keel", stream(0x100, 50, lambda i: [3] * 100))
    b = made(tmp_path / "b.keel", stream(0x100, 50, lambda i: [3] * 99 + [4]))
    assert [(d.kind, d.field) for d in against(a, b).differences] == [("constant", BitField(99 * 8, 8))]


def test_only_the_time_that_both_have_is_compared(good: Snapshot, tmp_path: Path) -> None:
    late = stream(0x500, 100, lambda i: [1])
    whole = joined(
        stream(0x100, 10, drive), stream(0x200, 50, lambda i: [i % 4, i % 7]), stream(0x300, 100, lambda i: [7]),
        late.take(np.flatnonzero(late.time > START + 12 * 10**9)),
    )  # fmt: skip
    longer = recorded(tmp_path / "long.keel", whole, dictionary=BOOK)
    shorter = recorded(
        tmp_path / "short.keel", whole.take(np.flatnonzero(whole.time < START + 10**10)), dictionary=BOOK
    )
    for a, b in ((longer, shorter), (shorter, longer)):
        found = against(a, b)
        assert found.differences == ()
        assert "compared over the 10.0 s that both have" in found.alignment.words
    # A span that was chosen is compared as it is.
    both = together(Side.of(longer, "", longer.span), Side.of(shorter))
    assert {d.kind for d in compare(both).differences} == {"only_in_a"}


def on_buses(folder: Path, names: list[str], *streams: FrameBatch) -> Snapshot:
    create_recording(folder, Manifest(folder.stem, "a test", START, [Bus(name) for name in names]))
    writer = Writer(folder, journal=False)
    writer.append(joined(*streams))
    writer.close()
    return Recording(folder).snapshot()


def some(bus: int, first: int, count: int = 4) -> list[FrameBatch]:
    return [stream(first + n, 50, lambda i: [i % 9], bus=bus) for n in range(count)]


def test_buses_of_other_names_are_matched_by_who_talks_on_them(tmp_path: Path) -> None:
    a = on_buses(tmp_path / "a.keel", ["can0", "can1", "spare"], *some(0, 0x100), *some(1, 0x200), *some(2, 0x300, 1))
    b = on_buses(tmp_path / "b.keel", ["hotel", "drive", "more"], *some(1, 0x100), *some(0, 0x200), *some(2, 0x700))
    found = against(a, b)
    assert found.buses.partners == (1, 0, None)
    assert set(found.both.words) >= {
        "bus hotel of the other is taken for can1 of this: 4 of 4 identifiers are the same",
        "bus drive of the other is taken for can0 of this: 4 of 4 identifiers are the same",
    }
    data = as_json(found)
    assert {(d["kind"], d["bus"], d["id"]) for d in data["differences"]} == {("only_in_a", "spare", "300")} | {
        ("only_in_b", "more", f"70{n}") for n in range(4)
    }
    assert data["buses"] == [{"a": "can1", "b": "hotel"}, {"a": "can0", "b": "drive"}]
    # Everything that is made of it knows these buses, too.
    assert "bus more of the other is none of this" in as_html(found, drawings_of(found))
    for difference in found.differences:
        assert courses_of(found, difference, 50)[1]


def test_buses_are_matched_as_a_person_says(tmp_path: Path) -> None:
    a = on_buses(tmp_path / "a.keel", ["x", "y=z"], *some(0, 0x100), *some(1, 0x200))
    b = on_buses(tmp_path / "b.keel", ["x", "p=q"], *some(0, 0x100), *some(1, 0x200))
    assert pair_buses(a, b).partners == (0, 1)
    assert pair_buses(a, b, {"x": "p=q"}).partners == (None, 0)
    assert pair_buses(a, b, {"x": "", "": "p=q"}).partners == (None, None)
    assert pair_given(["y=z=p=q", "x="], a, b) == {"y=z": "p=q", "x": ""}
    for wrong in ("x", "=", "x=nosuch", "y=p"):
        with pytest.raises(InputError, match="no pair of buses"):
            pair_given([wrong], a, b)
    with pytest.raises(InputError, match="not in the second"):
        pair_buses(a, b, {"x": "gone"})


def test_an_empty_side_is_said_to_be_empty(good: Snapshot, tmp_path: Path) -> None:
    empty = Recording(new_recording(tmp_path / "empty.keel")).snapshot()
    found = against(good, empty)
    assert {d.kind for d in found.differences} == {"only_in_a"} and len(found.differences) == 3
    assert "the other has no frame" in "\n".join(as_lines(found))
    assert "neither side has a frame" in against(empty, empty).both.problem
