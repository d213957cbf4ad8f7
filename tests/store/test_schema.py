"""Recordings of schema 2 are read, edited, added to; what schema 3 brought is kept in segments and journals."""

from __future__ import annotations

import json
import shutil
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from keel.formats.frame_lines import json_lines
from keel.media import ble
from keel.model.bus import Bus
from keel.model.faults import Fault, fault_words
from keel.model.frames import Flag, FrameBatch, batch_of, concat, empty_batch, replace_columns
from keel.model.span import Mark
from keel.store.index import index_path, read_index
from keel.store.journal import MAGIC, MAGIC_2, JournalReader, encode_block
from keel.store.manifest import FILE, Manifest, edit_manifest, load_manifest
from keel.store.packing import pack, unpack
from keel.store.recording import Recording, Snapshot
from keel.store.repair import repair
from keel.store.segment import segment_path
from keel.store.verify import verify
from keel.store.writer import Writer, create_recording
from tests.making import BUSES, START, Row, batch, find, recorded, same_frames

FIXTURES = Path(__file__).parent / "fixtures"
LATER_FAULT = 1 << 45
"""A fault that no Keel knows yet, beyond 32 bits."""


@pytest.fixture
def old(tmp_path: Path) -> Path:
    """A recording of schema 2: two segments, and a journal that a killed recorder left."""
    return Path(shutil.copytree(FIXTURES / "schema-2.keel", tmp_path / "old.keel"))


def lines(snapshot: Snapshot) -> list[dict[str, object]]:
    numbers = list(range(snapshot.frames))
    return [json.loads(s) for s in json_lines(snapshot.rows(0, snapshot.frames), snapshot.manifest.buses, numbers)]


def expected() -> list[dict[str, object]]:
    return [json.loads(line) for line in (FIXTURES / "schema-2.jsonl").read_text().splitlines()]


def schema_of(folder: Path) -> int:
    return int(json.loads((folder / FILE).read_text())["schema"])


def test_a_recording_of_schema_2_is_read_as_it_was(old: Path) -> None:
    snapshot = Recording(old).snapshot()
    assert not snapshot.problems and lines(snapshot) == expected() and verify(old) == []
    assert snapshot.rows(0, 9).header is None and snapshot.was_cut_short


def test_reading_and_editing_keep_the_schema(old: Path) -> None:
    before = {path: path.read_bytes() for path in (old / "segments").iterdir()}
    Recording(old).snapshot()
    with edit_manifest(old) as manifest:
        manifest.marks.append(Mark(2, START, "later"))
    assert schema_of(old) == 2 and {path: path.read_bytes() for path in (old / "segments").iterdir()} == before
    assert [mark.note for mark in load_manifest(old).marks] == ["", "later"]


def test_a_writer_makes_it_one_of_schema_3_and_loses_nothing(old: Path) -> None:
    writer = Writer(old)
    writer.append(batch([Row(START + 10_000_000_000, 0x1A0, b"new")]))
    writer.close()
    assert schema_of(old) == 3 and verify(old) == []
    snapshot = Recording(old).snapshot()
    assert lines(snapshot)[:-1] == expected() and lines(snapshot)[-1]["payload"] == "6E6577"
    assert [c.text for c in snapshot.manifest.comments] == ["here"] and len(snapshot.chunks) == 4


def test_a_recording_of_schema_2_is_packed_unpacked_and_mended(old: Path, tmp_path: Path) -> None:
    pack(old)
    unpack(old)
    assert schema_of(old) == 3 and lines(Recording(old).snapshot()) == expected()
    packed = Path(shutil.copytree(FIXTURES / "schema-2-packed.keel", tmp_path / "packed.keel"))
    unpack(packed)
    assert lines(Recording(packed).snapshot()) == expected()[: Recording(packed).snapshot().frames]
    second = Path(shutil.copytree(FIXTURES / "schema-2.keel", tmp_path / "second.keel"))
    path = segment_path(second, 1)
    content = bytearray(path.read_bytes())
    at = read_index(index_path(path)).layout["time"][0]
    content[at : at + 4] = b"\xff\xff\xff\xff"
    path.write_bytes(content)
    repair(second)
    assert verify(second) == [] and not Recording(second).snapshot().problems


def test_frames_of_the_capture_s_own_faults_count_in_old_indexes_too(old: Path) -> None:
    chunk = Recording(old).snapshot().chunks[0]
    run = next(i for i, key in enumerate(chunk.keys.tolist()) if key & 0xFFFF == 0x1A1)
    assert int(chunk.summary.fault_mask[run]) == int(Fault.TRUNCATED)
    assert int(chunk.summary.good[run]) == int(chunk.summary.frames[run]) == int(chunk.summary.faulty[run]) > 1


def test_a_schema_that_nobody_knows_is_refused(old: Path) -> None:
    data = json.loads((old / FILE).read_text())
    (old / FILE).write_text(json.dumps({**data, "schema": 4}))
    with pytest.raises(Exception, match="schema version 4, but this Keel reads versions 2 and 3"):
        Recording(old)


def rich(n: int = 300, seed: int = 1) -> FrameBatch:
    """Frames with headers, durations and faults beyond 32 bits."""
    draw = np.random.default_rng(seed)
    payloads = [bytes(draw.integers(0, 256, int(size), np.uint8)) for size in draw.integers(0, 40, n)]
    header = draw.integers(0, 256, (n, ble.HEADER_BYTES)).astype(np.uint8)
    faults = np.where(np.arange(n) % 50 == 7, LATER_FAULT, np.where(np.arange(n) % 40 == 3, int(Fault.CRC), 0))
    return batch_of(
        START + np.arange(n) * 1_000_000, draw.integers(1, 5, n), payloads, bus=0, form=ble.RANDOM.number,
        faults=faults, dlc=0, header=header, duration=draw.integers(0, 3, n) * 1000,
    )  # fmt: skip


def ble_recording(folder: Path, *batches: FrameBatch, seal: bool = True) -> Snapshot:
    create_recording(folder, Manifest("r", "a test", START, [Bus("air", medium="ble"), BUSES[1]]))
    for one in batches:
        writer = Writer(folder, journal=not seal)
        writer.append(one)
        writer.close() if seal else writer._lock.close()
    return Recording(folder).snapshot()


def same_extras(a: FrameBatch, b: FrameBatch) -> bool:
    return all(np.array_equal(getattr(a, name), getattr(b, name)) for name in ("header", "duration"))


@pytest.mark.parametrize("seal", [True, False])
def test_headers_durations_and_64_faults_are_kept(tmp_path: Path, seal: bool) -> None:
    whole = rich()
    snapshot = ble_recording(tmp_path / "r.keel", whole, seal=seal)
    found = snapshot.rows(0, len(whole))
    assert same_frames(found, whole) and same_extras(found, whole) and found.faults.dtype == np.uint64
    odd = np.flatnonzero(whole.faults == LATER_FAULT).tolist()
    matches = find(snapshot, "fault")
    assert set(odd) <= set(matches.numbers(0, len(matches)).tolist())
    assert fault_words(LATER_FAULT | int(Fault.CRC)) == ["crc", "fault-45"]
    summary = snapshot.chunks[0].summary
    assert int(np.bitwise_or.reduce(summary.fault_mask)) == LATER_FAULT | int(Fault.CRC)


def test_they_survive_packing_mending_and_sealing_with_others(tmp_path: Path) -> None:
    whole = rich()
    folder = tmp_path / "r.keel"
    ble_recording(folder, whole)
    pack(folder)
    unpack(folder)
    found = Recording(folder).snapshot().rows(0, len(whole))
    assert same_frames(found, whole) and same_extras(found, whole)
    index_path(segment_path(folder, 1)).unlink()
    assert repair(folder) == ["segment 1: its index was made anew"]
    snapshot = Recording(folder).snapshot()
    assert snapshot.chunks[0].header_bounds is not None
    # A segment of frames with and without: those without have zeros.
    mixed = concat([whole, replace_columns(batch([Row(START, 0x1A0, b"can")]), bus=np.ones(1, np.uint8))])
    assert mixed.header is not None and not mixed.header[-1].any() and mixed.faults.dtype == np.uint64
    other = ble_recording(tmp_path / "s.keel", mixed)
    assert same_frames(other.rows(0, 301), mixed) and same_extras(other.rows(0, 301), mixed)


def test_columns_that_say_nothing_are_left_out(tmp_path: Path) -> None:
    plain = batch([Row(START + i, 0x1A0, bytes([i])) for i in range(50)])
    recorded(tmp_path / "r.keel", plain)
    with pa.OSFile(str(segment_path(tmp_path / "r.keel", 1))) as file:
        names = pa.ipc.open_file(file).schema.names
    assert names == ["time", "bus", "form", "ident", "dlc", "bits", "payload", "order", "arrival"]
    assert same_frames(Recording(tmp_path / "r.keel").snapshot().rows(0, 50), plain)


def test_a_damaged_header_costs_no_frame(tmp_path: Path) -> None:
    whole, folder = rich(3000), tmp_path / "r.keel"
    ble_recording(folder, whole)
    path = segment_path(folder, 1)
    content = bytearray(path.read_bytes())
    at = read_index(index_path(path)).layout["header"][0]
    content[at + 40_000] ^= 1
    path.write_bytes(content)
    assert verify(folder)
    repair(folder)
    assert Recording(folder).snapshot().frames == 3000


def test_journal_blocks_of_both_versions_are_read(tmp_path: Path) -> None:
    old_journal = (FIXTURES / "schema-2.keel" / "journal" / "000003.rows").read_bytes()
    assert old_journal.startswith(MAGIC_2)
    (tmp_path / "j.rows").write_bytes(
        old_journal + encode_block(rich(20)) + b"KEELROW9" + bytes(40) + encode_block(rich(5))
    )
    reader = JournalReader(tmp_path / "j.rows")
    found = reader.read_new()
    assert [len(one) for one in found][-2:] == [20, 5] and same_extras(found[-1], rich(5))
    assert reader.damaged == 48 and MAGIC != MAGIC_2


def test_a_column_of_a_later_keel_is_passed_over(tmp_path: Path) -> None:
    import struct
    import zlib

    block = encode_block(rich(4))
    (size,) = struct.unpack_from("<I", block, 16)
    head = json.loads(block[20 : 20 + size])
    head["columns"].insert(0, ["of tomorrow", "<u8", 4])
    text = json.dumps(head).encode()
    body = struct.pack("<I", len(text)) + text + bytes(32) + block[20 + size :]
    (tmp_path / "j.rows").write_bytes(struct.pack("<8sII", MAGIC, len(body), zlib.crc32(body)) + body)
    assert same_frames(JournalReader(tmp_path / "j.rows").read_new()[0], rich(4))


@given(st.lists(st.integers(0, 30), min_size=1, max_size=5), st.integers(0, 2))
@settings(max_examples=20, deadline=None)
def test_slices_and_takes_keep_what_belongs_together(sizes: list[int], less: int) -> None:
    parts = [rich(max(size, 1), seed=size) for size in sizes]
    parts = [replace(p, duration=None) if less == 1 else replace(p, header=None) if less == 2 else p for p in parts]
    whole = concat([*parts, empty_batch(), rich(3)])
    again = concat([whole.slice(i, i + 1) for i in range(len(whole))])
    backwards = whole.take(np.arange(len(whole))[::-1]).take(np.arange(len(whole))[::-1])
    for other in (again, backwards):
        assert same_frames(whole, other) and same_extras(whole, other)


def test_what_the_capture_did_excludes_no_frame_and_what_the_line_did_does() -> None:
    faults = [0, int(Fault.LOST), int(Fault.TRUNCATED), int(Fault.CRC), int(Fault.LOST | Fault.CRC), LATER_FAULT]
    flags = [0, 0, int(Flag.REMOTE), int(Flag.ASIDE), int(Flag.ERROR), int(Flag.TX)]
    for one in (np.array(faults, np.uint64), np.array([*faults[:5], 0], np.uint32)):
        frames = batch_of(np.arange(6), 1, [b"x"] * 6, faults=one)
        sound = [True, True, True, False, False, not int(one[5])]
        assert (frames.passed_over() == 0).tolist() == frames.is_good(np.arange(6)).tolist() == sound
    quiet = batch_of(np.arange(6), 1, [b"x"] * 6, flags=flags)
    good = [True, True, False, False, False, True]
    assert (quiet.passed_over() == 0).tolist() == quiet.is_good(slice(None)).tolist() == good


def test_bounds_of_headers_that_are_laid_out_otherwise_are_made_anew_alone(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    snapshot = ble_recording(tmp_path / "r.keel", rich())
    before = snapshot.chunks[0].header_bounds
    monkeypatch.setattr("keel.store.index.laid_out", lambda: "of a later Keel")
    index = read_index(index_path(segment_path(tmp_path / "r.keel", 1)))
    assert index.other_headers and index.headers is None and not index.outdated
    again = Recording(tmp_path / "r.keel").snapshot().chunks[0].header_bounds
    assert before is not None and again is not None and np.array_equal(before.least, again.least)
