"""Damage: found by checksums, said, mended as far as possible; packing and unpacking."""

from __future__ import annotations

import random
from pathlib import Path

import numpy as np
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from keel.errors import RecordingBusy, RecordingError
from keel.model.faults import Fault
from keel.model.frames import Flag, FrameBatch
from keel.store import index as index_module
from keel.store.index import index_path, read_index
from keel.store.manifest import FILE, load_manifest
from keel.store.packing import copy_recording, pack, unpack
from keel.store.recording import Recording
from keel.store.repair import repair
from keel.store.segment import packed_path, segment_path
from keel.store.verify import verify
from keel.store.writer import Writer
from tests.making import START, Row, batch, recorded, rows, same_frames


def many(count: int, first: int = 0) -> list[Row]:
    return [
        Row(START + n * 1_000_000, 0x100 + n % 5, n.to_bytes(4, "little") * (1 + n % 3), faults=int(n % 97 == 0))
        for n in range(first, first + count)
    ]


def numbers(frames: FrameBatch) -> list[int]:
    return [int.from_bytes(frames.payload(i)[:4], "little") for i in range(len(frames))]


def flip(path: Path, at: int) -> None:
    content = bytearray(path.read_bytes())
    content[at] ^= 0x10
    path.write_bytes(content)


def two_segments(folder: Path) -> tuple[Path, FrameBatch]:
    whole = batch(many(3000))
    recorded(folder, whole.slice(0, 2000), whole.slice(2000, 3000))
    return segment_path(folder, 1), whole


def test_a_whole_recording_has_nothing_wrong(tmp_path: Path) -> None:
    two_segments(tmp_path / "r.keel")
    assert verify(tmp_path / "r.keel") == []
    assert repair(tmp_path / "r.keel") == []


def test_a_lost_index_is_made_anew_the_same(tmp_path: Path) -> None:
    folder = tmp_path / "r.keel"
    two_segments(folder)
    path = index_path(segment_path(folder, 2))
    before = read_index(path)
    path.unlink()
    snapshot = Recording(folder).snapshot()
    assert snapshot.frames == 3000 and "its index is lost" in snapshot.problems[0]
    assert [f.index_lost for f in verify(folder)] == [True]
    assert repair(folder) == ["segment 2: its index was made anew"]
    after = read_index(path)
    for name, column in before.summary.arrays().items():
        assert np.array_equal(column, getattr(after.summary, name)), name
    assert np.array_equal(before.before, after.before) and before.time_before == after.time_before
    assert verify(folder) == [] and not Recording(folder).snapshot().problems


def test_an_index_with_a_flipped_bit_is_not_believed(tmp_path: Path) -> None:
    folder = tmp_path / "r.keel"
    _, whole = two_segments(folder)
    flip(index_path(segment_path(folder, 1)), 700)
    assert same_frames(Recording(folder).snapshot().rows(0, 3000), whole)
    assert repair(folder) == ["segment 1: its index was made anew"]


def check_saved(left: FrameBatch, whole: FrameBatch) -> list[int]:
    """That each frame left is one of the whole, or its beginning where it is marked; returns which they are."""
    # Times are a millisecond apart, so that they tell which frame each is.
    places: list[int] = ((left.time - START) // 1_000_000).tolist()
    assert places == sorted(set(places))
    marked = (left.faults & np.uint32(Fault.TRUNCATED)) != 0
    exact = np.flatnonzero(~marked)
    assert same_frames(left.take(exact), whole.take(np.array(places, np.int64)[exact]))
    for i in np.flatnonzero(marked).tolist():
        of = whole.payload(places[i])
        assert left.payload(i) == of[: len(left.payload(i))] and len(left.payload(i)) < max(len(of), 1)
        for name in ("bus", "form", "ident", "flags"):
            assert getattr(left, name)[i] == getattr(whole, name)[places[i]]
        assert int(left.faults[i]) & ~int(Fault.TRUNCATED) in (int(whole.faults[places[i]]), 0)
    return places


@given(seed=st.integers(0, 10_000))
@settings(max_examples=40, deadline=None)
def test_flipped_bytes_lose_only_the_frames_they_are_part_of(
    tmp_path_factory: pytest.TempPathFactory, seed: int
) -> None:
    folder = tmp_path_factory.mktemp("damage") / "r.keel"
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(index_module, "BLOCK_BYTES", 256)
        path, whole = two_segments(folder)
        flip(path, random.Random(seed).randrange(path.stat().st_size))
        findings = verify(folder)
        assert len(findings) == 1 and len(findings[0].bad) == 1
        said = repair(folder)
        assert len(said) == 1
        assert verify(folder) == []
    snapshot = Recording(folder).snapshot()
    assert not snapshot.problems
    # A block of 256 bytes holds 32 times, 64 faults, or parts of some payloads; of the rest nothing is lost.
    assert 3000 - 65 <= snapshot.frames <= 3000
    assert snapshot.manifest.lost == 3000 - snapshot.frames
    left = snapshot.rows(0, snapshot.frames)
    check_saved(left, whole)
    assert np.count_nonzero(left.faults & np.uint32(Fault.TRUNCATED)) <= 130
    assert (folder / "damaged" / path.name).exists()


COST = {"time": 513, "flags": 0, "faults": 1025, "dlc": 0, "bus": 0, "form": 0, "ident": 0, "bits": 0, "fast_bits": 0,
        "offsets": 0, "data": 0, "order": 0, "arrival": 0}  # fmt: skip


@pytest.mark.parametrize("name", sorted(COST))
def test_four_bad_bytes_in_a_column_cost_what_cannot_be_known_otherwise(tmp_path: Path, name: str) -> None:
    folder = tmp_path / "r.keel"
    # One that has what else columns can be of, so that all are there.
    whole = batch([*many(40_000), Row(START + 40_000_000_000, 0x7F0, b"1234", flags=int(Flag.FD | Flag.BRS))])
    recorded(folder, whole)
    path = segment_path(folder, 1)
    at, kind, count = read_index(index_path(path)).layout[name]
    content = bytearray(path.read_bytes())
    middle = at + count // 2 * np.dtype(kind).itemsize
    content[middle : middle + 4] = bytes(b ^ 0xFF for b in content[middle : middle + 4])
    path.write_bytes(content)
    assert "blocks" in verify(folder)[0].what
    said = repair(folder)
    left = Recording(folder).snapshot()
    assert len(whole) - left.frames <= COST[name]
    frames = left.rows(0, left.frames)
    check_saved(frames, whole)
    marked = int(np.count_nonzero(frames.faults & np.uint32(Fault.TRUNCATED)))
    assert marked <= 1100 and bool(marked) == (name in ("data", "offsets"))
    assert (f"({marked} of them without all of their payload)" in said[0]) == bool(marked)


@pytest.mark.parametrize("share", [0.98, 0.75, 0.52, 0.3, 0.1])
def test_of_a_segment_that_is_cut_all_is_saved_whose_time_is_there(tmp_path: Path, share: float) -> None:
    folder = tmp_path / "r.keel"
    whole = batch(many(20_000))
    recorded(folder, whole)
    path = segment_path(folder, 1)
    at, _, _ = read_index(index_path(path)).layout["time"]
    content = path.read_bytes()
    size = int(len(content) * share)
    path.write_bytes(content[:size])
    assert "its 20000 frames are missing" in Recording(folder).snapshot().problems[0]
    assert "is cut" in verify(folder)[0].what
    repair(folder)
    left = Recording(folder).snapshot()
    assert left.frames == min((size // 4096 * 4096 - at) // 8, 20_000)
    check_saved(left.rows(0, left.frames), whole)


def test_a_segment_that_is_gone_is_given_up_and_said(tmp_path: Path) -> None:
    folder = tmp_path / "r.keel"
    path, _ = two_segments(folder)
    path.write_bytes(b"")
    index_path(path).unlink()
    assert "nothing could be saved" in repair(folder)[0]
    snapshot = Recording(folder).snapshot()
    assert (snapshot.frames, snapshot.manifest.lost, snapshot.problems) == (1000, 2000, ())


def test_a_lost_manifest_is_made_from_the_segments(tmp_path: Path) -> None:
    folder = tmp_path / "r.keel"
    _, whole = two_segments(folder)
    (folder / FILE).write_text("{")
    assert "made anew from 2 segments" in repair(folder)[0]
    snapshot = Recording(folder).snapshot()
    assert snapshot.manifest.bus_names == ["a", "b"]
    assert same_frames(snapshot.rows(0, 3000), whole)


def test_nobody_mends_what_is_being_recorded(tmp_path: Path) -> None:
    folder = tmp_path / "r.keel"
    two_segments(folder)
    writer = Writer(folder)
    for work in (repair, pack):
        with pytest.raises(RecordingBusy):
            work(folder)
    writer.close()


@given(found=rows(60, ordered=False), cut=st.integers(1, 59))
@settings(max_examples=15, deadline=None)
def test_packing_and_unpacking_is_exact(tmp_path_factory: pytest.TempPathFactory, found: list[Row], cut: int) -> None:
    folder = tmp_path_factory.mktemp("pack") / "r.keel"
    recorded(folder, *(batch(part) for part in (found[:cut], found[cut:]) if part))
    files = {p.name: p.read_bytes() for p in (folder / "segments").iterdir()}
    before = load_manifest(folder)
    pack(folder)
    assert all(p.suffix == ".parquet" for p in (folder / "segments").iterdir())
    assert pq.read_table(packed_path(folder, 1)).num_rows == min(cut, len(found))
    with pytest.raises(RecordingError, match="keel unpack"):
        Recording(folder)
    assert verify(folder) == []
    unpack(folder)
    assert {p.name: p.read_bytes() for p in (folder / "segments").iterdir()} == files
    assert load_manifest(folder) == before


def test_a_packed_segment_with_a_flipped_byte_is_found(tmp_path: Path) -> None:
    folder = tmp_path / "r.keel"
    two_segments(folder)
    copy_recording(folder, tmp_path / "copy.keel")
    pack(folder)
    flip(packed_path(folder, 1), 2000)
    assert len(verify(folder)) == 1
    with pytest.raises(RecordingError):
        unpack(folder)
    # The failed unpacking left it as it was.
    assert load_manifest(folder).packed and packed_path(folder, 2).exists()
    assert Recording(tmp_path / "copy.keel").snapshot().frames == 3000


def test_what_a_killed_recorder_left_is_packed_too(tmp_path: Path) -> None:
    folder = tmp_path / "r.keel"
    recorded(folder, batch(many(10)), seal=False)
    pack(folder)
    unpack(folder)
    assert Recording(folder).snapshot().frames == 10
