"""Packing a recording for keeping: its segments as Parquet with zstd, and back. Exact both ways.

Each segment is rewritten on its own; the manifest changes when all are there. Any program that reads Parquet
reads a packed recording.
"""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from keel.errors import RecordingError
from keel.model.frames import COLUMNS
from keel.store.chunk import Carry, Clustered
from keel.store.columns import with_all_columns
from keel.store.index import index_path
from keel.store.locks import WriterLock
from keel.store.manifest import SCHEMA, SegmentEntry, edit_manifest, load_manifest
from keel.store.sealing import journal_numbers
from keel.store.segment import packed_path, runs_of, segment_path, write_clustered
from keel.store.verify import verify
from keel.store.writer import Writer

ROWS_A_GROUP = 1 << 20
_DELTA = ("time", "order", "arrival", "bits", "duration")
Progress = Callable[[int, int], None]


def pack(folder: Path, progress: Progress = lambda *_: None) -> None:
    """Rewrite the segments as Parquet.

    Raises:
        RecordingBusy: somebody writes to it.
        RecordingError: it is packed already, or damaged.
    """
    if load_manifest(folder).packed:
        raise RecordingError(str(folder), "is packed already")
    if journal_numbers(folder):
        # What a killed recorder left in the journal is sealed first.
        Writer(folder).close()
    wrong = verify(folder)
    if wrong:
        raise RecordingError(str(folder), f"{wrong[0].file}: {wrong[0].what}; keel verify --repair first")
    _rewrite(folder, _pack_segment, packed_path, True, progress)


def unpack(folder: Path, progress: Progress = lambda *_: None) -> None:
    """Rewrite the segments as Arrow, with their indexes.

    Raises:
        RecordingBusy: somebody writes to it.
        RecordingError: it is not packed, or damaged.
    """
    if not load_manifest(folder).packed:
        raise RecordingError(str(folder), "is not packed")
    _rewrite(folder, _unpack_segment, segment_path, False, progress)


def copy_recording(folder: Path, to: Path) -> None:
    """Copy a recording as it lies.

    Raises:
        NotARecording: there is none to copy.
        RecordingError: there is something already, or it cannot be written.
    """
    load_manifest(folder)
    if to.exists():
        raise RecordingError(str(to), "there is something of this name already")
    try:
        shutil.copytree(folder, to)
    except (OSError, shutil.Error) as error:
        raise RecordingError(str(to), f"cannot be copied ({_why(error)})") from None


def _why(error: OSError | shutil.Error) -> str:
    # What copying a tree raises holds a list of all that failed.
    return error.strerror or str(error.args[0][0][2] if error.args and error.args[0] else error)[:200]


Rewriter = Callable[[Path, SegmentEntry, list[str], Carry], SegmentEntry]


def _rewrite(
    folder: Path, work: Rewriter, new_path: Callable[[Path, int], Path], packed: bool, progress: Progress
) -> None:
    with WriterLock(folder, "a recorder is writing to it"):
        manifest = load_manifest(folder)
        carry = Carry()
        entries: list[SegmentEntry] = []
        try:
            for entry in manifest.segments:
                entries.append(work(folder, entry, manifest.bus_names, carry))
                progress(len(entries), len(manifest.segments))
        except BaseException as error:
            for entry in manifest.segments:
                new_path(folder, entry.number).unlink(missing_ok=True)
            if isinstance(error, OSError) and not isinstance(error, RecordingError):
                raise RecordingError(str(folder), f"cannot be rewritten ({error.strerror or error})") from None
            raise
        with edit_manifest(folder) as manifest:
            manifest.segments, manifest.packed, manifest.schema = entries, packed, SCHEMA
        for entry in entries:
            segment = segment_path(folder, entry.number)
            for old in (segment, index_path(segment)) if packed else (packed_path(folder, entry.number),):
                old.unlink(missing_ok=True)


def _pack_segment(folder: Path, entry: SegmentEntry, bus_names: list[str], carry: Carry) -> SegmentEntry:
    import pyarrow as pa
    import pyarrow.parquet as pq

    path = packed_path(folder, entry.number)
    with pa.OSFile(str(segment_path(folder, entry.number))) as file:
        table = pa.ipc.open_file(file).read_all()
        draft = path.with_suffix(".draft")
        delta = [name for name in _DELTA if name in table.column_names]
        pq.write_table(
            table,
            draft,
            row_group_size=ROWS_A_GROUP,
            compression="zstd",
            compression_level=9,
            use_dictionary=[name for name in table.column_names if name not in (*delta, "payload")],
            column_encoding=dict.fromkeys(delta, "DELTA_BINARY_PACKED") | {"payload": "DELTA_LENGTH_BYTE_ARRAY"},
            write_page_checksum=True,
            store_schema=True,
        )
    draft.replace(path)
    return SegmentEntry(entry.number, entry.rows, entry.start, entry.end, path.stat().st_size)


def _unpack_segment(folder: Path, entry: SegmentEntry, bus_names: list[str], carry: Carry) -> SegmentEntry:
    import pyarrow as pa
    import pyarrow.parquet as pq

    path = packed_path(folder, entry.number)
    try:
        table = pq.read_table(path, page_checksum_verification=True).combine_chunks()
    except (OSError, pa.ArrowException) as error:
        raise RecordingError(str(path), f"cannot be read ({error})") from None

    def column(name: str, kind: Any) -> Any:
        values = table[name].combine_chunks()
        values = values.indices if name == "bus" else values.cast(pa.int64()) if name == "time" else values
        return values.to_numpy(zero_copy_only=False).astype(kind, copy=False)

    payload = table["payload"].combine_chunks()
    _, offsets, data = payload.buffers()
    ends = np.frombuffer(offsets, np.int32, len(payload) + 1 + payload.offset)[payload.offset :]
    bytes_ = np.frombuffer(data, np.uint8) if data is not None else np.zeros(0, np.uint8)
    kinds = {**COLUMNS, "duration": np.int64}
    columns = {name: column(name, kinds[name]) for name in table.column_names if name in kinds}
    if "header" in table.column_names:
        header = table["header"].combine_chunks()
        columns["header"] = np.frombuffer(header.buffers()[1], np.uint8)[header.offset * header.type.byte_width :]
    if "faults" in columns:
        columns["faults"] = table["faults"].to_numpy()
    batch = with_all_columns({**columns, "offsets": ends - ends[0], "data": bytes_[ends[0] : ends[-1]]})
    held = Clustered(batch, column("order", np.uint32), column("arrival", np.uint32), *runs_of(batch))
    return write_clustered(segment_path(folder, entry.number), held, bus_names, carry)
