"""The census against a plain reference, whatever the chunks."""

from __future__ import annotations

import statistics
import tempfile
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from keel.measure.census import activity, census_of
from keel.measure.report import traffic
from keel.model.identity import pack_key
from keel.store.recording import Recording
from keel.store.writer import Writer
from tests.making import START, Row, batch, find, recorded, rows


def reference(found: list[Row], key: tuple[int, int, int]) -> dict[str, object]:
    """One identifier's numbers, the slow way."""
    mine = [r for r in found if (r.bus, r.form, r.ident) == key]
    good = [r for r in mine if not r.faults]
    steps = [b.time - a.time for a, b in zip(good[:-1], good[1:], strict=True)]
    return {
        "frames": len(mine),
        "faults": len(mine) - len(good),
        "changes": sum(a.payload != b.payload for a, b in zip(good[:-1], good[1:], strict=True)),
        "mean": statistics.fmean(steps) if steps else 0.0,
        "deviation": statistics.pstdev(steps) if steps else 0.0,
        "least": min(steps, default=0),
        "most": max(steps, default=0),
        "payload": good[-1].payload if good else b"",
    }


@given(rows(60), st.lists(st.integers(1, 59), max_size=3))
@settings(max_examples=40)
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
        good = [r for r in found if pack_key(r.bus, r.form, r.ident) == key and not r.faults]
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
