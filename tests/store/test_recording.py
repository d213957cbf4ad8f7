"""A recording: written, sealed, followed, edited, and opened again after things went wrong."""

from __future__ import annotations

import json
import shutil
import tempfile
import threading
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings

from keel.errors import NotARecording, RecordingBusy, RecordingError
from keel.measure.report import traffic
from keel.model.bus import Bus
from keel.model.frames import FrameBatch, concat
from keel.model.span import Mark, Span
from keel.store import recording as recording_module
from keel.store import writer as writer_module
from keel.store.journal import JournalReader, encode_block
from keel.store.library import look, new_name, shelf
from keel.store.locks import is_being_written
from keel.store.manifest import FILE, Manifest, edit_manifest, load_manifest
from keel.store.recording import Recording
from keel.store.sealing import journal_path
from keel.store.segment import segment_path
from keel.store.summary import NEVER
from keel.store.writer import Writer, create_recording
from tests.making import START, Row, batch, find, new_recording, recorded, rows, same_frames


def frames_of(count: int, first: int = 0) -> list[Row]:
    return [Row(START + n * 1_000_000, 0x100 + n % 3, bytes([n % 251, n // 251])) for n in range(first, first + count)]


@given(rows(ordered=False))
@settings(max_examples=25)
def test_frames_come_back_in_order_of_arrival_sealed_or_not(found: list[Row]) -> None:
    whole = batch(found)
    with tempfile.TemporaryDirectory() as folder:
        for name, seal in (("sealed.keel", True), ("journal.keel", False)):
            snapshot = recorded(Path(folder) / name, whole, seal=seal)
            assert snapshot.frames == len(found)
            assert same_frames(snapshot.rows(0, snapshot.frames), whole)


def test_rows_are_found_across_segments(tmp_path: Path) -> None:
    parts = [batch(frames_of(7)), batch(frames_of(5, 7)), batch(frames_of(9, 12))]
    snapshot = recorded(tmp_path / "r.keel", *parts)
    assert len(snapshot.chunks) == 3
    assert same_frames(snapshot.rows(4, 15), concat(parts).slice(4, 15))
    assert len(snapshot.rows(30, 40)) == 0


def test_any_arrow_program_reads_a_segment(tmp_path: Path) -> None:
    found = frames_of(10)
    recorded(tmp_path / "r.keel", batch(found))
    with pa.memory_map(str(segment_path(tmp_path / "r.keel", 1))) as source:
        table = pa.ipc.open_file(source).read_all()
        arrived = table.take(table["order"])
        assert arrived["payload"].to_pylist() == [r.payload for r in found]
        assert arrived["bus"].to_pylist() == ["a"] * 10
        assert arrived["ident"].to_pylist() == [r.ident for r in found]
        assert arrived["time"].cast(pa.int64()).to_pylist() == [r.time for r in found]


def test_the_frame_before_is_known_across_segments_and_pages(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(recording_module, "PAGE_ROWS", 4)
    folder = tmp_path / "r.keel"
    recorded(folder, batch(frames_of(5)))
    writer = Writer(folder)
    writer.append(batch(frames_of(11, 5)))
    chunks = Recording(folder).snapshot().chunks
    assert [len(c) for c in chunks] == [5, 4, 4, 3]
    times: dict[int, int] = {}
    last = NEVER
    for chunk in chunks:
        for run, key in enumerate(chunk.keys.tolist()):
            assert chunk.before[run] == times.get(key, NEVER)
            times[key] = int(chunk.batch.time[chunk.starts[run + 1] - 1])
        assert chunk.time_before == last
        last = int(chunk.arrival_times()[-1])
    writer.close()


def test_a_reader_follows_through_sealing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(writer_module, "SEAL_ROWS", 20)
    folder = new_recording(tmp_path / "r.keel")
    writer, reader = Writer(folder), Recording(folder)
    written: list[Row] = []
    for step in range(30):
        more = frames_of(7, step * 7)
        written += more
        writer.append(batch(more))
        reader.refresh()
        snapshot = reader.snapshot()
        # What is between journal and segment just now may come with the next look; order and content never err.
        assert same_frames(snapshot.rows(0, snapshot.frames), batch(written[: snapshot.frames]))
    writer.close()
    while reader.refresh():
        pass
    snapshot = reader.snapshot()
    assert snapshot.frames == len(written)
    assert same_frames(snapshot.rows(0, snapshot.frames), batch(written))
    assert len(snapshot.manifest.segments) >= 10
    assert not list((folder / "journal").iterdir())


def test_a_second_recorder_is_refused_while_the_first_is_at_work(tmp_path: Path) -> None:
    folder = new_recording(tmp_path / "r.keel")
    writer = Writer(folder)
    assert is_being_written(folder)
    with pytest.raises(RecordingBusy):
        Writer(folder)
    writer.close()
    assert not is_being_written(folder)
    Writer(folder).close()


def test_rows_left_in_a_journal_are_sealed_by_the_next_recorder(tmp_path: Path) -> None:
    folder = tmp_path / "r.keel"
    recorded(folder, batch(frames_of(5)), seal=False)
    writer = Writer(folder)
    writer.append(batch(frames_of(3, 5)))
    writer.close()
    snapshot = Recording(folder).snapshot()
    assert same_frames(snapshot.rows(0, 8), batch(frames_of(8)))
    assert [s.rows for s in snapshot.manifest.segments] == [5, 3]


def test_a_segment_that_is_named_but_still_has_its_journal_is_not_read_twice(tmp_path: Path) -> None:
    folder = tmp_path / "r.keel"
    recorded(folder, batch(frames_of(5)))
    # As if the recorder was killed between naming the segment and removing the journal.
    journal_path(folder, 1).write_bytes(encode_block(batch(frames_of(5))))
    assert Recording(folder).snapshot().frames == 5
    Writer(folder).close()
    assert not journal_path(folder, 1).exists()
    assert Recording(folder).snapshot().frames == 5


@pytest.mark.parametrize("damage", ["missing", "cut", "noise"])
def test_a_lost_segment_is_said_and_the_rest_works(tmp_path: Path, damage: str) -> None:
    folder = tmp_path / "r.keel"
    recorded(folder, batch(frames_of(5)), batch(frames_of(6, 5)))
    path = segment_path(folder, 1)
    if damage == "missing":
        path.unlink()
    elif damage == "cut":
        path.write_bytes(path.read_bytes()[:300])
    else:
        path.write_bytes(b"\x5a" * 2000)
    snapshot = Recording(folder).snapshot()
    assert snapshot.frames == 6
    assert len(snapshot.problems) == 1 and "its 5 frames are missing" in snapshot.problems[0]


def test_what_is_no_recording_is_refused_with_the_reason(tmp_path: Path) -> None:
    with pytest.raises(NotARecording, match=r"has no recording\.json"):
        Recording(tmp_path)
    (tmp_path / FILE).write_text("{ not json")
    with pytest.raises(NotARecording, match="cannot be read"):
        Recording(tmp_path)
    (tmp_path / FILE).write_text('{"schema": 2}')
    with pytest.raises(NotARecording, match="does not hold a manifest"):
        Recording(tmp_path)
    (tmp_path / FILE).write_text('{"schema": 99}')
    with pytest.raises(RecordingError, match="schema version 99"):
        Recording(tmp_path)


def test_making_a_recording_twice_is_refused(tmp_path: Path) -> None:
    new_recording(tmp_path / "r.keel")
    with pytest.raises(RecordingError, match="already"):
        create_recording(tmp_path / "r.keel", Manifest("r", "a test", 0))


def test_marks_are_kept_and_other_people_s_edits_survive(tmp_path: Path) -> None:
    folder = new_recording(tmp_path / "r.keel")
    with edit_manifest(folder) as manifest:
        manifest.marks.append(Mark(1, START, "pressed"))
    writer = Writer(folder, journal=False)
    writer.append(batch(frames_of(3)))
    writer.close()
    manifest = load_manifest(folder)
    assert manifest.marks == [Mark(1, START, "pressed")] and len(manifest.segments) == 1
    assert json.loads((folder / FILE).read_text())["schema"] == 3


def test_a_snapshot_knows_its_span_and_the_frames_in_another(tmp_path: Path) -> None:
    snapshot = recorded(tmp_path / "r.keel", batch(frames_of(10)))
    assert snapshot.span == Span(START, START + 9_000_001)
    chunk = snapshot.chunks[0]
    assert chunk.in_span(None) == (0, 10)
    assert chunk.in_span(Span(START + 2_000_000, START + 5_000_000)) == (2, 5)
    assert chunk.in_span(Span(0, 10)) == (0, 0)


def test_a_span_over_frames_out_of_order_is_a_mask(tmp_path: Path) -> None:
    found = [Row(START + t, 1) for t in (30, 10, 20, 40)]
    chunk = recorded(tmp_path / "r.keel", batch(found)).chunks[0]
    assert not chunk.ordered
    inside = chunk.in_span(Span(START + 15, START + 35))
    assert isinstance(inside, np.ndarray) and inside.tolist() == [True, False, True, False]


def test_the_shelf_lists_recordings_newest_first_with_what_is_wrong(shelf_of_its_own: Path) -> None:
    assert shelf() == []
    older, newer = new_name("older"), new_name("newer")
    recorded(older, batch(frames_of(4)), seal=False)
    create_recording(newer, Manifest("newer", "elsewhere", START + 5))
    broken = shelf_of_its_own / "broken.keel"
    broken.mkdir()
    found = shelf()
    assert [s.name for s in found] == ["newer", older.stem, "broken"]
    assert found[1].frames == 4 and found[1].seconds == pytest.approx(0.003)
    assert "no recording.json" in look(broken).problem


def test_payloads_of_64_kib_beside_short_ones_take_no_more_than_they_are(tmp_path: Path) -> None:
    long = bytes(range(256)) * 256
    found = [Row(START + i, 0x100 + i % 2, long if i % 10 == 0 else bytes([i % 256]) * 8) for i in range(100)]
    snapshot = recorded(tmp_path / "r.keel", batch(found))
    assert same_frames(snapshot.rows(0, 100), batch(found))
    segment = segment_path(tmp_path / "r.keel", 1)
    assert segment.stat().st_size < 10 * 65_536 + 90 * 8 + 100 * 60 + 10_000


def test_one_batch_larger_than_a_segment_becomes_several(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(writer_module, "SEAL_BYTES", 100_000)
    found = [Row(START + i, 1, bytes([i % 256]) * 8000) for i in range(60)]
    snapshot = recorded(tmp_path / "r.keel", batch(found))
    assert len(snapshot.manifest.segments) == 3
    assert same_frames(snapshot.rows(0, 60), batch(found))


def test_readers_are_never_in_a_writers_way(tmp_path: Path) -> None:
    folder = new_recording(tmp_path / "r.keel")
    done = threading.Event()
    looked = [0, 0]

    def look(which: int) -> None:
        while not done.is_set():
            is_being_written(folder)
            Recording(folder).snapshot()
            looked[which] += 1

    readers = [threading.Thread(target=look, args=(which,)) for which in range(2)]
    for reader in readers:
        reader.start()
    try:
        for _ in range(150):
            writer = Writer(folder, journal=False)
            assert is_being_written(folder)
            writer.close()
    finally:
        done.set()
        for reader in readers:
            reader.join()
    assert min(looked) > 10 and not is_being_written(folder)


def test_a_bus_that_appears_between_two_reads_of_one_look_has_its_name(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = new_recording(tmp_path / "r.keel")
    writer = Writer(folder)
    writer.append(batch([Row(START, 0x100, b"x")]))
    reader = Recording(folder)
    read_new = JournalReader.read_new

    def late(self: JournalReader) -> list[FrameBatch]:
        # The manifest was read a moment ago.
        if len(writer.buses) == 2:
            bus = writer.add_bus(Bus("late"))
            writer.append(batch([Row(START + 1, 0x200, b"y", bus=bus)]))
        return read_new(self)

    monkeypatch.setattr(JournalReader, "read_new", late)
    assert reader.refresh()
    snapshot = reader.snapshot()
    assert snapshot.manifest.bus_names == ["a", "b", "late"] and not snapshot.problems
    assert [b["bus"] for b in traffic(find(snapshot), START)["buses"]] == ["a", "b", "late"]
    assert len(find(snapshot, "bus:late")) == 1
    writer.close()


def test_frames_of_a_bus_that_the_manifest_does_not_name_are_shown_and_said(tmp_path: Path) -> None:
    folder = new_recording(tmp_path / "r.keel")
    writer = Writer(folder)
    writer.append(batch([Row(START, 0x100, b"x", bus=1)]))
    writer._lock.close()
    with edit_manifest(folder) as manifest:
        manifest.buses = manifest.buses[:1]
    reader = Recording(folder)
    assert reader.snapshot().manifest.bus_names == ["a", "bus 1?"]
    assert reader.snapshot().problems == ("the manifest names 1 buses, but there are frames of more",)
    assert len(find(reader.snapshot(), 'bus:"bus 1\\?"')) == 1
    reader.refresh()
    assert reader.snapshot().manifest.bus_names == ["a", "bus 1?"]


def test_a_recording_that_is_gone_is_said_to_be(tmp_path: Path) -> None:
    folder = tmp_path / "r.keel"
    recorded(folder, batch([Row(START, 0x100, b"x")]))
    reader = Recording(folder)
    shutil.rmtree(folder)
    with pytest.raises(RecordingError):
        reader.refresh()
