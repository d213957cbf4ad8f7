"""Waveforms beside the segments: written, mapped, checked, found again without a manifest."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest

from keel.errors import RecordingError
from keel.model.waveform import Analog, Channel, Logic
from keel.store.manifest import FILE, Manifest, edit_manifest, load_manifest
from keel.store.recording import Recording
from keel.store.repair import repair
from keel.store.verify import verify
from keel.store.waveforms import StoredWaveform, waveform_path, write_waveform
from keel.store.writer import create_recording

EDGES = Logic(-50, 1_000, 1, np.array([10, 20, 500]), ((600, 700),))
VOLTS = Analog(-100, 12.5, np.arange(-3000, 3000, dtype=np.int16), 1e-3)


def made(folder: Path) -> Path:
    create_recording(folder, Manifest("probe", "a test", 0, is_dated=False))
    entries = [
        write_waveform(folder, 1, Channel("tx", 1, EDGES, ("line.tx",), ("a note",)), source="a.vcd"),
        write_waveform(folder, 2, Channel("volts", 2, VOLTS)),
    ]
    with edit_manifest(folder) as manifest:
        manifest.waveforms = entries
    return folder


def test_a_recording_of_waveforms_alone_opens_and_gives_them_back(tmp_path: Path) -> None:
    snapshot = Recording(made(tmp_path / "p.keel")).snapshot()
    assert snapshot.frames == 0 and (snapshot.span.start, snapshot.span.end) == (-100, VOLTS.end)
    tx, volts = snapshot.waveforms
    assert isinstance(tx.wave, Logic) and tx.wave.edges.tolist() == [10, 20, 500]
    assert (tx.wave.start, tx.wave.end, tx.wave.first, tx.wave.unknown) == (-50, 1_000, 1, ((600, 700),))
    assert (tx.entry.others, tx.entry.notes, tx.entry.source) == (("line.tx",), ("a note",), "a.vcd")
    assert isinstance(volts.wave, Analog) and volts.wave.samples.dtype == np.int16
    assert volts.wave.volts(0, 2).tolist() == [-3.0, -2.999] and volts.wave.step == 12.5
    assert volts.bounds is not None and [len(least) for least, _ in volts.bounds.finer] == [94, 6]
    assert volts.bounds.finer[0][1][0] == -3000 + 63


def test_any_program_that_reads_arrow_reads_them(tmp_path: Path) -> None:
    folder = made(tmp_path / "p.keel")
    table = pa.ipc.open_file(waveform_path(folder, 1)).read_all()
    assert table.column("time").to_pylist() == [10, 20, 500]
    assert b'"first": 1' in table.schema.metadata[b"keel.waveform"]


def test_each_byte_is_checked(tmp_path: Path) -> None:
    folder = made(tmp_path / "p.keel")
    assert verify(folder) == []
    path = waveform_path(folder, 2)
    whole = bytearray(path.read_bytes())
    whole[len(whole) // 2] ^= 1
    path.write_bytes(whole)
    (found,) = verify(folder)
    assert found.file == "waveforms/000002.arrow" and found.what == "has a wrong checksum"
    assert "waveform 2, volts: has a wrong checksum" in repair(folder)[0]
    path.unlink()
    assert "cannot be read" in verify(folder)[0].what
    with pytest.raises(RecordingError, match="cannot be read"):
        _ = Recording(folder).snapshot().waveforms[1].wave
    path.write_bytes(b"no arrow")
    with pytest.raises(RecordingError, match="cannot be read"):
        _ = StoredWaveform(folder, load_manifest(folder).waveforms[1]).wave


def test_without_a_manifest_they_are_found_again(tmp_path: Path) -> None:
    folder = made(tmp_path / "p.keel")
    before = load_manifest(folder).waveforms
    (folder / FILE).unlink()
    assert repair(folder)[0].startswith(FILE)
    assert load_manifest(folder).waveforms == before and verify(folder) == []
