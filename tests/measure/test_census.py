"""The census against a plain reference, whatever the chunks."""

from __future__ import annotations

import statistics
import tempfile
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from keel.measure.census import activity, census_of
from keel.measure.cycles import describe_tally, heard_in
from keel.measure.flips import flips_by_key
from keel.measure.report import traffic
from keel.model.frames import Flag
from keel.model.identity import Form, pack_key
from keel.model.span import Span
from keel.store.arrays import load_arrays, save_arrays
from keel.store.manifest import edit_manifest
from keel.store.recording import Recording
from keel.store.writer import Writer
from tests.making import START, Row, batch, find, recorded, rows


def reference(found: list[Row], key: tuple[int, int, int]) -> dict[str, object]:
    """One identifier's numbers, the slow way."""
    mine = [r for r in found if (r.bus, r.form, r.ident) == key]
    good = [r for r in mine if r.is_good]
    # Where the clock was set back there is no cycle time.
    steps = [b.time - a.time for a, b in zip(good[:-1], good[1:], strict=True) if b.time >= a.time]
    return {
        "frames": len(mine),
        "faults": sum(r.faults != 0 for r in mine),
        "good": len(good),
        "back": sum(b.time < a.time for a, b in zip(good[:-1], good[1:], strict=True)),
        "changes": sum(a.payload != b.payload for a, b in zip(good[:-1], good[1:], strict=True)),
        "mean": statistics.fmean(steps) if steps else 0.0,
        "deviation": statistics.pstdev(steps) if steps else 0.0,
        "least": min(steps, default=0),
        "most": max(steps, default=0),
        "payload": good[-1].payload if good else b"",
    }


@given(st.booleans().flatmap(lambda ordered: rows(60, ordered)), st.lists(st.integers(1, 59), max_size=3))
@settings(max_examples=60)
def test_every_number_equals_the_reference(found: list[Row], cuts: list[int]) -> None:
    bounds = [0, *sorted({c for c in cuts if c < len(found)}), len(found)]
    with tempfile.TemporaryDirectory() as folder:
        parts = [batch(found[a:b]) for a, b in zip(bounds[:-1], bounds[1:], strict=True)]
        census = census_of(find(recorded(Path(folder) / "r.keel", *parts)))
        payloads = {key: tally.payload for key, tally in census.items()}
    keys = {(r.bus, r.form, r.ident) for r in found}
    assert set(census) == {pack_key(*key) for key in keys}
    for key in keys:
        tally, expected = census[pack_key(*key)], reference(found, key)
        assert (tally.frames, tally.faults, tally.changes) == (
            expected["frames"],
            expected["faults"],
            expected["changes"],
        )
        assert (tally.good, tally.back) == (expected["good"], expected["back"])
        assert (tally.cycle.least, tally.cycle.most) == (expected["least"], expected["most"])
        assert tally.cycle.mean == pytest.approx(expected["mean"], rel=1e-12)
        assert tally.cycle.deviation == pytest.approx(expected["deviation"], rel=1e-9, abs=1e-6)
        assert payloads[tally.key] == expected["payload"]


@given(rows(60), st.integers(1, 59))
@settings(max_examples=30)
def test_each_byte_knows_when_it_last_changed(found: list[Row], cut: int) -> None:
    with tempfile.TemporaryDirectory() as folder:
        parts = [batch(p) for p in (found[:cut], found[cut:]) if p]
        census = census_of(find(recorded(Path(folder) / "r.keel", *parts)))
    for key, tally in census.items():
        good = [r for r in found if pack_key(r.bus, r.form, r.ident) == key and r.is_good]
        # A byte that one of the two lacks has changed.
        for i in range(len(tally.changed_at)):
            moved = [
                b.time for a, b in zip(good[:-1], good[1:], strict=True) if a.payload[i : i + 1] != b.payload[i : i + 1]
            ]
            assert int(tally.changed_at[i]) == (moved[-1] if moved else 0)


def test_only_what_is_asked_is_counted(tmp_path: Path) -> None:
    found = [Row(START + i * 1_000_000, 0x100 + i % 2, bytes([i // 4])) for i in range(40)]
    snapshot = recorded(tmp_path / "r.keel", batch(found))
    census = census_of(find(snapshot, "id:101 at:10ms..20ms"))
    assert [(t.frames, t.cycle.mean) for t in census.values()] == [(5, 2_000_000.0)]


def test_the_census_of_a_growing_recording_equals_that_of_one_opened_afresh(tmp_path: Path) -> None:
    found = [Row(START + i * 1_000_000, 0x100 + i % 2, bytes([i])) for i in range(60)]
    folder = tmp_path / "r.keel"
    recorded(folder, batch(found[:20]))
    reader = Recording(folder)
    for low in range(20, 60, 10):
        writer = Writer(folder, journal=False)
        writer.append(batch(found[low : low + 10]))
        writer.close()
        reader.refresh()
        matches = find(reader.snapshot())
        grown, fresh = census_of(matches), census_of(find(Recording(folder).snapshot()))
        assert {k: (t.frames, t.changes, t.cycle) for k, t in grown.items()} == {
            k: (t.frames, t.changes, t.cycle) for k, t in fresh.items()
        }


@given(rows(60, ordered=False), st.integers(1, 20))
@settings(max_examples=30)
def test_activity_counts_every_frame_once(found: list[Row], cells: int) -> None:
    with tempfile.TemporaryDirectory() as folder:
        snapshot = recorded(Path(folder) / "r.keel", batch(found))
        counts = activity(find(snapshot), snapshot.span.start, snapshot.span.end, cells)
    for key, cells_of_key in counts.items():
        assert cells_of_key.sum() == sum(pack_key(r.bus, r.form, r.ident) == key for r in found)


def test_the_report_speaks_in_seconds(tmp_path: Path) -> None:
    found = [Row(START + i * 10_000_000, 0x0A4, bytes([i // 2])) for i in range(101)]
    snapshot = recorded(tmp_path / "r.keel", batch(found))
    report = traffic(find(snapshot), snapshot.span.start)
    (row,) = report["identifiers"]
    assert (row["bus"], row["id"], row["ext"], row["frames"]) == ("a", "0A4", False, 101)
    assert (row["first"], row["last"]) == (0.0, 1.0)
    assert (row["cycle_mean"], row["cycle_min"], row["cycle_max"], row["cycle_std"]) == (0.01, 0.01, 0.01, 0.0)
    assert (row["payload_changes"], row["faults"]) == (50, 0)
    assert report["start"] == START
    assert [b["frames"] for b in report["buses"]] == [101, 0]


def test_requests_of_others_are_no_cycle_and_no_change(tmp_path: Path) -> None:
    found = []
    for i in range(50):
        found.append(Row(START + i * 100_000_000, 0x100, b"same"))
        found.append(Row(START + i * 100_000_000 + 1_000_000, 0x100, flags=int(Flag.REMOTE)))
    snapshot = recorded(tmp_path / "r.keel", batch(found[:40]), batch(found[40:]))
    tally = census_of(find(snapshot))[pack_key(0, Form.BASE, 0x100)]
    assert (tally.frames, tally.good, tally.changes, tally.payload) == (100, 50, 0, b"same")
    assert (tally.cycle.least, tally.cycle.most) == (100_000_000, 100_000_000)
    assert not flips_by_key(find(snapshot))[tally.key].any()


def test_a_clock_set_back_is_no_cycle_and_stops_nobody(tmp_path: Path) -> None:
    found = [Row(START + (i if i < 60 else i - 30) * 100_000_000, 0x100 + i % 2, bytes([i])) for i in range(120)]
    for name, parts in (("one", [found]), ("two", [found[:60], found[60:]]), ("three", [found[:75], found[75:]])):
        snapshot = recorded(tmp_path / f"{name}.keel", *map(batch, parts))
        for tally in census_of(find(snapshot)).values():
            assert tally.back == 1
            assert (tally.cycle.least, tally.cycle.most) == (200_000_000, 200_000_000)
            assert describe_tally(tally, snapshot.span.end).state == "steady"


def test_an_index_of_before_is_made_anew_only_where_it_says_less(tmp_path: Path) -> None:
    steady = [Row(START + i * 1000, 0x100, bytes([i])) for i in range(20)]
    back = [*steady, Row(START, 0x100, b"x")]
    for name, found in (("steady", steady), ("back", back)):
        snapshot = recorded(tmp_path / f"{name}.keel", batch(found))
        path = next((tmp_path / f"{name}.keel" / "segments").glob("*.index"))
        meta, arrays = load_arrays(path)
        older = {k: a for k, a in arrays.items() if k not in ("summary.back", "summary.back_ns")}
        size = save_arrays(path, meta, older)
        with edit_manifest(tmp_path / f"{name}.keel") as manifest:
            manifest.segments = [replace(e, index_bytes=size) for e in manifest.segments]
        again = Recording(tmp_path / f"{name}.keel").snapshot()
        tallies = [census_of(find(s))[pack_key(0, Form.BASE, 0x100)] for s in (snapshot, again)]
        assert tallies[0].back == tallies[1].back == (name == "back")
        assert tallies[0].cycle == tallies[1].cycle


def test_who_begins_late_is_new_and_counted_from_then_on(tmp_path: Path) -> None:
    found = [Row(START + i * 100_000_000, 0x100, b"") for i in range(600)]
    found += [Row(START + 30_000_000_000 + i * 100_000_000, 0x200, b"") for i in range(300)]
    found.sort(key=lambda r: r.time)
    snapshot = recorded(tmp_path / "r.keel", batch(found))
    early, late = census_of(find(snapshot)).values()
    assert heard_in(early, snapshot.span) == snapshot.span
    assert heard_in(late, snapshot.span) == Span(START + 30_000_000_000, snapshot.span.end)
    assert describe_tally(late, snapshot.span.end, start=START).began == START + 30_000_000_000
    assert describe_tally(early, snapshot.span.end, start=START).began is None
