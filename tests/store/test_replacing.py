"""Frames of a bus exchanged for others: the rest stays, comments go along, and all of it can be taken back."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from keel.errors import RecordingBusy, RecordingError
from keel.model.bus import Bus
from keel.model.frames import FrameBatch, batch_of, concat, empty_batch
from keel.store import replacing, writer
from keel.store.manifest import Comment, Manifest, edit_manifest, load_manifest
from keel.store.recording import Recording
from keel.store.replacing import replace_frames, take_back
from keel.store.writer import Writer, create_recording

Row = tuple[int, int, bytes]
"""Time, bus, payload."""


def batch(rows: Sequence[Row]) -> FrameBatch:
    parts = [batch_of(np.array([time]), 0x100 + bus, [payload], bus=bus, dlc=0) for time, bus, payload in rows]
    return concat(parts) if parts else empty_batch()


def made(folder: Path, rows: Sequence[Row], comments: Sequence[int] = ()) -> Path:
    create_recording(folder, Manifest("x", "a test", 0, [Bus("a"), Bus("b")], is_dated=False))
    with_all = Writer(folder, journal=False)
    with_all.append(batch(rows))
    with_all.close()
    with edit_manifest(folder) as manifest:
        manifest.comments = [Comment(number, f"of {rows[number]}") for number in comments]
    return folder


def rows_of(folder: Path) -> list[Row]:
    snapshot = Recording(folder).snapshot()
    found = snapshot.rows(0, snapshot.frames)
    return [(int(found.time[n]), int(found.bus[n]), found.payload(n)) for n in range(len(found))]


OLD = [(10_000, 0, b"a"), (20_000, 1, b"b"), (30_000, 0, b"c"), (40_000, 1, b"d"), (50_000, 0, b"e")]
FRESH = [(15_000, 1, b"x"), (40_000, 1, b"y"), (60_000, 1, b"z")]
NEW = sorted([row for row in OLD if row[1] == 0] + FRESH)


def test_frames_of_one_bus_are_exchanged_and_comments_stay_with_theirs(tmp_path: Path) -> None:
    folder = made(tmp_path / "x.keel", OLD, comments=[1, 2, 3, 4])
    replace_frames(folder, {1}, batch(FRESH), lambda manifest: None)
    assert rows_of(folder) == NEW
    manifest = load_manifest(folder)
    assert [(c.number, c.text) for c in manifest.comments] == [
        (2, f"of {OLD[2]}"), (3, f"of {OLD[3]}"), (4, f"of {OLD[4]}"),
    ]  # fmt: skip
    assert [(mark.time, mark.note) for mark in manifest.marks] == [(20_000, f"of {OLD[1]}")]


def test_it_is_taken_back_and_brought_forth_again(tmp_path: Path) -> None:
    folder = made(tmp_path / "x.keel", OLD)
    replace_frames(folder, {1}, batch(FRESH), lambda manifest: manifest.notes.append("read anew"))
    take_back(folder)
    assert rows_of(folder) == OLD
    take_back(folder)
    assert rows_of(folder) == NEW
    replace_frames(folder, {1}, batch([]), lambda manifest: None)
    assert rows_of(folder) == [row for row in OLD if row[1] == 0]
    take_back(folder)
    assert rows_of(folder) == NEW
    assert len(list((folder / "replaced").glob("*.arrow"))) == 1


def test_who_looks_on_sees_one_or_the_other(tmp_path: Path) -> None:
    folder = made(tmp_path / "x.keel", OLD)
    recording = Recording(folder)
    before = recording.snapshot()
    replace_frames(folder, {1}, batch(FRESH), lambda manifest: None)
    assert before.rows(0, 5).time.tolist() == [row[0] for row in OLD]
    assert recording.refresh() and recording.snapshot().frames == len(NEW)
    assert before.frames == 5 and not recording.snapshot().problems


def test_frames_that_were_added_since_are_not_lost_by_taking_back(tmp_path: Path) -> None:
    folder = made(tmp_path / "x.keel", OLD)
    replace_frames(folder, {1}, batch(FRESH), lambda manifest: None)
    later = Writer(folder, journal=False)
    later.append(batch([(70_000, 0, b"later")]))
    later.close()
    with pytest.raises(RecordingError, match="frames were added since"):
        take_back(folder)
    assert rows_of(folder) == [*NEW, (70_000, 0, b"later")]


def test_what_cannot_be_is_refused(tmp_path: Path) -> None:
    folder = made(tmp_path / "x.keel", OLD)
    with pytest.raises(RecordingError, match="nothing was decoded anew"):
        take_back(folder)
    held = Writer(folder)
    with pytest.raises(RecordingBusy):
        replace_frames(folder, {1}, batch(FRESH), lambda manifest: None)
    held.close()
    assert rows_of(folder) == OLD


def test_a_disk_that_is_full_leaves_all_as_it_was(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    folder = made(tmp_path / "x.keel", OLD)

    def full(*_: object, **__: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(replacing, "write_segment", full)
    with pytest.raises(RecordingError, match="No space left"):
        replace_frames(folder, {1}, batch(FRESH), lambda manifest: None)
    assert rows_of(folder) == OLD


NewRows = st.lists(st.tuples(st.integers(0, 60), st.binary(max_size=2)), max_size=25)
OldRows = st.lists(st.tuples(st.integers(0, 60), st.integers(0, 1), st.binary(max_size=2)), min_size=1, max_size=25)


@settings(max_examples=40, deadline=None)
@given(OldRows, NewRows)
def test_nothing_is_lost_over_any_number_of_segments(
    tmp_path_factory: pytest.TempPathFactory, old: list[Row], new: list[tuple[int, bytes]]
) -> None:
    folder = tmp_path_factory.mktemp("x") / "x.keel"
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(writer, "SEAL_ROWS", 4)
        patch.setattr(replacing, "SEAL_ROWS", 4)
        made(folder, old)
        fresh = sorted((time, 1, payload) for time, payload in new)
        replace_frames(folder, {1}, batch(fresh), lambda manifest: None)
    found = rows_of(folder)
    assert [row for row in found if row[1] == 0] == [row for row in old if row[1] == 0]
    assert [row for row in found if row[1] == 1] == fresh
    latest = list(np.maximum.accumulate([row[0] for row in old if row[1] == 0]))
    assert len(latest) == len([row for row in found if row[1] == 0])
    take_back(folder)
    assert rows_of(folder) == old
