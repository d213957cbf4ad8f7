"""Mending a recording: indexes made anew, and of damaged segments every frame that is whole.

Nothing is thrown away: a damaged file is set aside in ``damaged/`` before another takes its place.
"""

from __future__ import annotations

import fcntl
import mmap
from pathlib import Path
from typing import Any

import numpy as np

from keel.errors import NotARecording, RecordingBusy, RecordingError
from keel.lines.can import with_wire_bits
from keel.model.bus import Bus
from keel.model.frames import COLUMNS, FrameBatch, Mask, Rows, take_payloads
from keel.model.identity import unpack_key
from keel.store.chunk import Carry
from keel.store.index import Index, Layout, index_path, read_index, write_index
from keel.store.manifest import FILE, Manifest, SegmentEntry, edit_manifest, load_manifest, save_manifest
from keel.store.segment import remake_index, segment_path, view_columns, write_segment
from keel.store.verify import Finding, Span, check_segment


def repair(folder: Path) -> list[str]:
    """Mend what can be mended; returns what was done, in sentences.

    Raises:
        RecordingBusy: somebody writes to it.
        RecordingError: it is packed; there is nothing in it that could be mended.
    """
    with (folder / ".writer").open("w") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            raise RecordingBusy(str(folder), "a recorder is writing to it") from None
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
    if not paths:
        raise NotARecording(str(folder), "there is neither a manifest nor a segment to make one from")
    buses: list[str] = []
    entries = []
    for path in paths:
        try:
            with pa.memory_map(str(path)) as file:
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
        batch = _salvage(path, read_index(index_path(path)), bad)
    except RecordingError as error:
        _set_aside(folder, path)
        _set_aside(folder, index_path(path))
        _exchange(folder, entry, None, entry.rows)
        return f"segment {entry.number}: nothing could be saved ({error.what}); {entry.rows} frames are lost"
    lost = entry.rows - len(batch)
    _set_aside(folder, path)
    _set_aside(folder, index_path(path))
    new = write_segment(path, batch, buses, carry.copy()) if len(batch) else None
    _exchange(folder, entry, new, lost)
    return f"segment {entry.number}: {len(batch)} of {entry.rows} frames saved, {lost} lost"


def _exchange(folder: Path, old: SegmentEntry, new: SegmentEntry | None, lost: int) -> None:
    with edit_manifest(folder) as manifest:
        kept = [(new if entry.number == old.number else entry) for entry in manifest.segments]
        manifest.segments = [entry for entry in kept if entry is not None]
        if lost:
            manifest.lost += lost
            manifest.notes.append(f"segment {old.number} was damaged: {lost} of its {old.rows} frames are lost")


def _set_aside(folder: Path, path: Path) -> None:
    if path.exists():
        (folder / "damaged").mkdir(exist_ok=True)
        path.replace(folder / "damaged" / path.name)


def _salvage(path: Path, index: Index, bad: list[Span]) -> FrameBatch:
    """The frames of a segment none of whose own bytes are bad, in order of arrival.

    Bus, form and identifier come from the index, the bits on the wire from the frame, the order from either of
    its two columns: damage to these loses nothing.
    """
    try:
        with path.open("rb") as file:
            content = mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ)
    except (OSError, ValueError) as error:
        raise RecordingError(str(path), f"cannot be read ({error})") from None
    # What is missing at the end is filled up, and is bad.
    whole = bytearray(index.size)
    whole[: min(len(content), index.size)] = content[: index.size]
    columns = view_columns(bytes(whole), index.layout)
    n = index.rows
    keep = np.ones(n, np.bool_)
    for name in ("time", "flags", "faults", "dlc"):
        keep &= ~_bad_items(index.layout, name, bad)[:n]
    ends = _bad_items(index.layout, "offsets", bad)
    keep &= ~(ends[:-1] | ends[1:])
    offsets = columns["offsets"].astype(np.int64)
    sane = (offsets[:-1] >= 0) & (offsets[1:] >= offsets[:-1]) & (offsets[1:] <= len(columns["data"]))
    keep &= sane
    spoilt = np.concatenate([[0], np.cumsum(_bad_items(index.layout, "data", bad), dtype=np.int64)])
    starts, stops = np.where(keep, offsets[:-1], 0), np.where(keep, offsets[1:], 0)
    keep &= spoilt[stops] == spoilt[starts]
    rows = np.flatnonzero(keep)
    rows = rows[np.argsort(_arrivals(columns, index, bad)[rows], kind="stable")]
    new_offsets, data = take_payloads(np.where(sane[rows[0]] if len(rows) else True, offsets, 0), columns["data"], rows)
    keys = [unpack_key(key) for key in index.keys.tolist()]
    run = np.searchsorted(index.starts, rows, side="right") - 1
    parts = {name: np.array([key[i] for key in keys]) for i, name in enumerate(("bus", "form", "ident"))}
    given = {name: parts[name][run] if name in parts else columns[name][rows] for name in COLUMNS}
    kinds = {name: given[name].astype(kind) for name, kind in COLUMNS.items()}
    return with_wire_bits(FrameBatch(**kinds, offsets=new_offsets, data=data))


def _bad_items(layout: Layout, name: str, bad: list[Span]) -> Mask:
    """Which values of a column have bad bytes."""
    at, kind, count = layout[name]
    size = np.dtype(kind).itemsize
    mask = np.zeros(count, np.bool_)
    for start, end in bad:
        low, high = (start - at) // size, -(-(end - at) // size)
        mask[max(low, 0) : max(high, 0)] = True
    return mask


def _arrivals(columns: dict[str, Any], index: Index, bad: list[Span]) -> Rows:
    """When each stored row arrived, from whichever column still says it; else by its time."""
    n = index.rows
    found = np.full(n, -1, np.int64)
    order, is_bad = columns["order"].astype(np.int64), _bad_items(index.layout, "order", bad)
    good = np.flatnonzero(~is_bad & (order < n))
    found[order[good]] = good
    direct = ~_bad_items(index.layout, "arrival", bad)
    found[direct] = columns["arrival"].astype(np.int64)[direct]
    unknown = np.flatnonzero(found < 0)
    known = np.flatnonzero(found >= 0)
    if not len(known):
        return np.argsort(np.argsort(columns["time"], kind="stable"), kind="stable")
    known = known[np.argsort(found[known])]
    places = np.searchsorted(np.maximum.accumulate(columns["time"][known]), columns["time"][unknown])
    found[unknown] = np.append(found[known], n)[places]
    return found
