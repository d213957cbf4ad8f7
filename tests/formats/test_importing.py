"""Imports make a whole recording or none, and tell what they skipped."""

from __future__ import annotations

from pathlib import Path

import pytest

from keel.errors import InputError, RecordingError, UnknownFormat
from keel.formats.importing import import_files
from keel.store.recording import Recording

LINE = "(1.0) bus0 1A0#00\n"


def test_files_are_read_one_after_another(tmp_path: Path) -> None:
    (tmp_path / "one.log").write_text("(2.0) left 1A0#01\njunk\n")
    (tmp_path / "two.log").write_text("(1.0) right 1A0#02\n(1.5) left 1A0#03\n")
    done = import_files([tmp_path / "one.log", tmp_path / "two.log"], tmp_path / "r.keel")
    snapshot = Recording(tmp_path / "r.keel").snapshot()
    assert done.frames == snapshot.frames == 3
    assert snapshot.manifest.bus_names == ["left", "right"]
    frames = snapshot.rows(0, 3)
    assert [frames.payload(i)[0] for i in range(3)] == [1, 2, 3]
    assert frames.bus.tolist() == [0, 1, 0]
    assert "one.log: skipped 1: no time in brackets (first at line 2)" in snapshot.manifest.notes


def test_progress_runs_to_the_end(tmp_path: Path) -> None:
    (tmp_path / "x.log").write_text(LINE * 10)
    seen: list[tuple[int, int]] = []
    import_files([tmp_path / "x.log"], tmp_path / "r.keel", lambda _, done, total: seen.append((done, total)))
    assert seen[-1] == (len(LINE) * 10, len(LINE) * 10)


def test_nothing_is_left_behind_when_nothing_could_be_read(tmp_path: Path) -> None:
    # It looks like a log, but no line is a whole frame.
    (tmp_path / "x.log").write_text("(1.0) bus0 1A0#0\n(1.0) bus0 1A0#0G\n")
    with pytest.raises(InputError, match="no frame could be read; skipped 1"):
        import_files([tmp_path / "x.log"], tmp_path / "r.keel")
    assert sorted(p.name for p in tmp_path.iterdir()) == ["x.log"]


def test_one_unknown_file_stops_all_before_anything_is_made(tmp_path: Path) -> None:
    (tmp_path / "x.log").write_text(LINE)
    (tmp_path / "y.bin").write_bytes(bytes(200))
    with pytest.raises(UnknownFormat):
        import_files([tmp_path / "x.log", tmp_path / "y.bin"], tmp_path / "r.keel")
    assert not (tmp_path / "r.keel").exists()


def test_an_existing_recording_is_not_touched(tmp_path: Path) -> None:
    (tmp_path / "x.log").write_text(LINE)
    import_files([tmp_path / "x.log"], tmp_path / "r.keel")
    with pytest.raises(RecordingError, match="already"):
        import_files([tmp_path / "x.log"], tmp_path / "r.keel")
    assert Recording(tmp_path / "r.keel").snapshot().frames == 1


def test_bus_names_from_outside_are_made_harmless(tmp_path: Path) -> None:
    (tmp_path / "x.log").write_bytes("(1.0) b\u202eus 1A0#00\n".encode())
    import_files([tmp_path / "x.log"], tmp_path / "r.keel")
    assert Recording(tmp_path / "r.keel").snapshot().manifest.bus_names == ["b·us"]
