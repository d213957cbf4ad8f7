"""Checking every byte of a recording against its checksums."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from keel.errors import RecordingError
from keel.store.index import checksums_of, index_path, read_index
from keel.store.journal import JournalReader
from keel.store.manifest import SegmentEntry, load_manifest
from keel.store.sealing import journal_numbers, journal_path
from keel.store.segment import packed_path, segment_path
from keel.store.waveforms import FOLDER, check_waveform, waveform_path

READ_BYTES = 1 << 23
Span = tuple[int, int]


@dataclass(frozen=True)
class Finding:
    """What is wrong with one file.

    Attributes:
        number: The segment's, or the journal's.
        file: Which file, relative to the recording.
        what: What is wrong, in words.
        bad: Ranges of bytes that are wrong or missing, from and up to.
        index_lost: Whether it is the index that cannot be read.
    """

    number: int
    file: str
    what: str
    bad: list[Span] = field(default_factory=list)
    index_lost: bool = False


Progress = Callable[[int, int], None]


def verify(
    folder: Path, progress: Progress = lambda *_: None, stopped: Callable[[], bool] = lambda: False
) -> list[Finding]:
    """What is wrong with a recording; empty if nothing is.

    Raises:
        NotARecording: the manifest cannot be read.
    """
    manifest = load_manifest(folder)
    total, done = sum(entry.bytes for entry in manifest.segments), 0
    found: list[Finding] = []
    for entry in manifest.segments:
        if stopped():
            return found
        found += check_packed(folder, entry) if manifest.packed else check_segment(folder, entry)
        done += entry.bytes
        progress(done, total)
    for wave in manifest.waveforms:
        what = None if stopped() else check_waveform(folder, wave)
        if what is not None:
            found.append(Finding(wave.number, f"{FOLDER}/{waveform_path(folder, wave.number).name}", what))
    sealed = {entry.number for entry in manifest.segments}
    for number in journal_numbers(folder):
        reader = JournalReader(journal_path(folder, number))
        reader.read_new()
        reader.close()
        if reader.damaged and number not in sealed:
            name = f"journal/{journal_path(folder, number).name}"
            found.append(Finding(number, name, f"{reader.damaged} bytes are damaged and are passed over"))
    return found


def check_segment(folder: Path, entry: SegmentEntry) -> list[Finding]:
    """What is wrong with a segment and its index."""
    path = segment_path(folder, entry.number)
    name, index_name = f"segments/{path.name}", f"segments/{index_path(path).name}"
    found = []
    try:
        index = read_index(index_path(path))
    except RecordingError as error:
        found.append(Finding(entry.number, index_name, error.what, index_lost=True))
        index = None
    try:
        size, sums = _sums_of(path, index.block if index is not None else 0)
    except (OSError, ValueError) as error:
        return [*found, Finding(entry.number, name, f"cannot be read ({error})", [(0, entry.bytes)])]
    bad: list[Span] = []
    block = index.block if index is not None else 1
    if index is not None:
        known = index.checksums[: len(sums)]
        blocks = np.flatnonzero(sums[: len(known)] != known)
        bad = [(int(b) * block, min((int(b) + 1) * block, size)) for b in blocks]
    if size < entry.bytes:
        bad = [span for span in bad if span[1] < size] + [(size // block * block, entry.bytes)]
        found.append(Finding(entry.number, name, f"is cut: {size} of {entry.bytes} bytes are there", bad))
    elif bad:
        wrong = sum(end - start for start, end in bad)
        found.append(Finding(entry.number, name, f"{wrong} bytes are in blocks with a wrong checksum", bad))
    elif size > entry.bytes:
        found.append(Finding(entry.number, name, f"has {size} bytes, should have {entry.bytes}", [(0, 0)]))
    return found


def _sums_of(path: Path, block: int) -> tuple[int, Any]:
    """The size of a file, and the checksum of each block; none for a block of 0. Read, not mapped: it may be cut."""
    size, sums = 0, []
    with path.open("rb") as file:
        while piece := file.read(max(READ_BYTES // max(block, 1), 1) * max(block, 1)):
            size += len(piece)
            if block:
                sums.append(checksums_of(piece, block))
    return size, np.concatenate(sums) if sums else np.zeros(0, np.uint64)


def check_packed(folder: Path, entry: SegmentEntry) -> list[Finding]:
    """What is wrong with a packed segment: Parquet has a checksum for each page."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    path = packed_path(folder, entry.number)
    try:
        rows = pq.read_table(path, page_checksum_verification=True).num_rows
    except (OSError, pa.ArrowException) as error:
        return [Finding(entry.number, f"segments/{path.name}", f"cannot be read ({error})", [(0, entry.bytes)])]
    if rows != entry.rows:
        return [Finding(entry.number, f"segments/{path.name}", f"has {rows} rows, should have {entry.rows}")]
    return []
