"""Mending a recording: indexes made anew, and of damaged segments every frame that is whole.

Nothing is thrown away: a damaged file is set aside in ``damaged/`` before another takes its place.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np

from keel.errors import NotARecording, RecordingError
from keel.model.bus import Bus
from keel.store.chunk import Carry
from keel.store.index import index_path, read_index, write_index
from keel.store.locks import WriterLock
from keel.store.manifest import FILE, SCHEMA, Manifest, SegmentEntry, edit_manifest, load_manifest, save_manifest
from keel.store.salvage import salvage
from keel.store.segment import remake_index, segment_path, write_segment
from keel.store.verify import Finding, check_segment
from keel.store.waveforms import check_waveform, entries_found


def repair(folder: Path) -> list[str]:
    """Mend what can be mended; returns what was done, in sentences.

    Raises:
        RecordingBusy: somebody writes to it.
        RecordingError: it is packed; there is nothing in it that could be mended.
    """
    with WriterLock(folder, "a recorder is writing to it"):
        said = _mend_manifest(folder)
        manifest = load_manifest(folder)
        if manifest.packed:
            raise RecordingError(str(folder), "is packed; unpack it first")
        carry = Carry()
        for entry in manifest.segments:
            findings = check_segment(folder, entry)
            if findings:
                said.append(_mend_segment(folder, entry, findings, carry, manifest.bus_names))
            try:
                index = read_index(index_path(segment_path(folder, entry.number)))
                carry.advance(index.keys, index.lasts, index.last_time)
            except RecordingError:
                continue
        for wave in manifest.waveforms:
            what = check_waveform(folder, wave)
            if what is not None:
                said.append(f"waveform {wave.number}, {wave.name}: {what}; it cannot be mended, and is left as it is")
        return said


def _mend_manifest(folder: Path) -> list[str]:
    """Make the manifest anew from the segments, if it cannot be read."""
    import pyarrow as pa

    try:
        load_manifest(folder)
        return []
    except NotARecording:
        pass
    paths = sorted((folder / "segments").glob("*.arrow"))
    if not paths and not entries_found(folder):
        raise NotARecording(str(folder), "there is neither a manifest nor a segment to make one from")
    buses: list[str] = []
    entries = []
    for path in paths:
        try:
            with pa.OSFile(str(path)) as file:
                record = pa.ipc.open_file(file).get_batch(0)
                buses = max(buses, record.column("bus").dictionary.to_pylist(), key=len)
                times = np.frombuffer(record.column("time").buffers()[1], np.int64, len(record))
                sizes = path.stat().st_size, (index_path(path).stat().st_size if index_path(path).exists() else 0)
                entries.append(SegmentEntry(int(path.stem), len(record), int(times.min()), int(times.max()), *sizes))
        except (OSError, pa.ArrowException, KeyError, ValueError):
            continue
    _set_aside(folder, folder / FILE)
    manifest = Manifest(
        folder.stem, "mended", entries[0].start if entries else 0, [Bus(name) for name in buses], entries
    )
    manifest.waveforms = entries_found(folder)
    manifest.notes = ["the manifest was lost: bit rates, marks, names and notes are not those that were set"]
    save_manifest(folder, manifest)
    return [f"{FILE}: made anew from {len(entries)} segments; bit rates, marks and names are lost"]


def _mend_segment(folder: Path, entry: SegmentEntry, findings: list[Finding], carry: Carry, buses: list[str]) -> str:
    path = segment_path(folder, entry.number)
    bad = [span for finding in findings for span in finding.bad]
    index_lost = any(finding.index_lost for finding in findings)
    try:
        if index_lost and not bad:
            index = remake_index(path, carry)
            _set_aside(folder, index_path(path))
            size = write_index(index_path(path), index)
            _exchange(
                folder, entry, SegmentEntry(entry.number, entry.rows, entry.start, entry.end, index.size, size), 0
            )
            return f"segment {entry.number}: its index was made anew"
        batch, cut = salvage(path, read_index(index_path(path)), bad)
    except RecordingError as error:
        _set_aside(folder, path)
        _set_aside(folder, index_path(path))
        _exchange(folder, entry, None, entry.rows)
        return f"segment {entry.number}: nothing could be saved ({error.what}); {entry.rows} frames are lost"
    lost = entry.rows - len(batch)
    _set_aside(folder, path)
    _set_aside(folder, index_path(path))
    new = write_segment(path, batch, buses, carry.copy()) if len(batch) else None
    _exchange(folder, entry, new, lost, cut)
    less = f" ({cut} of them without all of their payload)" if cut else ""
    return f"segment {entry.number}: {len(batch)} of {entry.rows} frames saved{less}, {lost} lost"


def _exchange(folder: Path, old: SegmentEntry, new: SegmentEntry | None, lost: int, cut: int = 0) -> None:
    with edit_manifest(folder) as manifest:
        kept = [(new if entry.number == old.number else entry) for entry in manifest.segments]
        manifest.segments = [entry for entry in kept if entry is not None]
        manifest.schema = SCHEMA
        if lost:
            manifest.lost += lost
            manifest.notes.append(f"segment {old.number} was damaged: {lost} of its {old.rows} frames are lost")
        if cut:
            sentence = (
                f"segment {old.number} was damaged: {cut} of its frames lack bytes of their payload (fault:truncated)"
            )
            manifest.notes.append(sentence)


def _set_aside(folder: Path, path: Path) -> None:
    if path.exists():
        (folder / "damaged").mkdir(exist_ok=True)
        path.replace(folder / "damaged" / path.name)
