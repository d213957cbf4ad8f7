"""Sealed segments: one Arrow IPC file each, one record batch in it, rows clustered by key.

Any program that reads Arrow reads them: ``order`` holds the stored row of each frame in order of arrival,
so ``table.take(table["order"])`` gives the frames as they came. Columns that are 0 throughout are left out.

Reading needs no Arrow library as long as the index is there: it says where the columns lie.
PyArrow is imported where it is used: it takes longer to load than the app takes to paint its first screen.
"""

from __future__ import annotations

import mmap
import os
from collections.abc import Callable
from functools import cached_property
from itertools import count
from pathlib import Path
from typing import Any

import numpy as np

from keel.errors import RecordingError
from keel.model.frames import COLUMNS, OPTIONAL, FrameBatch, Rows, Times
from keel.model.identity import Keys
from keel.model.span import Span
from keel.store.chunk import Carry, Chunk, Clustered, Numbers
from keel.store.columns import with_all_columns, worth_keeping
from keel.store.density import Density, FaultRows, tallied
from keel.store.headers import HeaderBounds, header_bounds
from keel.store.index import Index, Layout, checksums_of, index_of, index_path, read_index, write_index
from keel.store.manifest import SegmentEntry
from keel.store.summary import Summary, summarise

_METADATA = {
    "keel.schema": "3",
    "keel.rows": "clustered by bus, form and identifier; see columns order and arrival",
    "keel.columns": "what is not there is 0 throughout",
}


_KINDS: dict[str, Any] = {"time": np.int64, "bus": np.uint8, "header": np.uint8}
"""The types of columns that Arrow has its own types for."""


ASIDE = "replaced"


def packed_path(folder: Path, number: int) -> Path:
    """Where a packed segment lies."""
    return folder / "segments" / f"{number:06d}.parquet"


def segment_path(folder: Path, number: int) -> Path:
    """Where a segment lies."""
    return folder / "segments" / f"{number:06d}.arrow"


def aside_path(path: Path) -> Path:
    """Where a file of a segment lies once its frames were exchanged for others."""
    return path.parent.parent / ASIDE / path.name


def where_it_lies(path: Path) -> Path:
    """Where a file of a segment is: who opened it before it was set aside still reads it."""
    aside = aside_path(path)
    return aside if aside.exists() and not path.exists() else path


def record_of(held: Clustered, bus_names: list[str]) -> Any:
    """Clustered frames as an Arrow record batch, without copying payloads."""
    import pyarrow as pa

    stored = held.batch
    arrays: list[Any] = []
    columns = worth_keeping(stored)
    for name, column in columns.items():
        if name == "time":
            arrays.append(pa.array(column).view(pa.timestamp("ns", tz="UTC")))
        elif name == "bus":
            arrays.append(pa.DictionaryArray.from_arrays(pa.array(column), pa.array(bus_names)))
        elif name == "header":
            whole = pa.py_buffer(np.ascontiguousarray(column))
            arrays.append(pa.Array.from_buffers(pa.binary(column.shape[1]), len(stored), [None, whole]))
        else:
            arrays.append(pa.array(column))
    buffers = [None, pa.py_buffer(stored.offsets.astype(np.int32)), pa.py_buffer(stored.data)]
    arrays.append(pa.Array.from_buffers(pa.binary(), len(stored), buffers))
    arrays += [pa.array(held.order), pa.array(held.arrival)]
    record = pa.record_batch(arrays, names=[*columns, "payload", "order", "arrival"])
    return record.replace_schema_metadata(_METADATA)


def write_segment(
    path: Path, batch: FrameBatch, bus_names: list[str], carry: Carry, durable: bool = True
) -> SegmentEntry:
    """Seal a batch that is in order of arrival, and advance ``carry`` by it; the files appear whole or not at all."""
    from keel.store.kernels import cluster

    return write_clustered(path, cluster(batch), bus_names, carry, durable)


def write_clustered(
    path: Path, held: Clustered, bus_names: list[str], carry: Carry, durable: bool = True
) -> SegmentEntry:
    """As `write_segment`, for rows that are clustered already."""
    summarise.load()
    tallied.load()
    write_arrow(path, held, bus_names, durable)
    index = make_index(path, held, carry)
    size = write_index(index_path(path), index)
    carry.advance(index.keys, index.lasts, index.last_time)
    times = held.batch.time
    return SegmentEntry(int(path.stem), len(held.batch), int(times.min()), int(times.max()), index.size, size)


def write_arrow(path: Path, held: Clustered, bus_names: list[str], durable: bool = True) -> None:
    """Write the Arrow file, as a whole or not at all; without ``durable`` it may be lost with the power."""
    import pyarrow as pa

    record = record_of(held, bus_names)
    draft = path.with_suffix(".draft")
    try:
        with draft.open("wb") as file:
            with pa.ipc.new_file(file, record.schema) as writer:
                writer.write_batch(record)
            file.flush()
            if durable:
                os.fsync(file.fileno())
        draft.replace(path)
    except OSError:
        draft.unlink(missing_ok=True)
        raise


def make_index(path: Path, held: Clustered, carry: Carry) -> Index:
    """The index of a segment that was just written."""
    # Mapped, not read: it was written a moment ago by us, and is of the size that was written.
    with path.open("rb") as file:
        content = mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ)
    return index_of(held, carry, layout_of(content), len(content), checksums_of(content))


def layout_of(content: Any) -> Layout:
    """Where the columns lie in the bytes of a segment's file."""
    import pyarrow as pa

    whole = pa.py_buffer(content)
    record = pa.ipc.open_file(pa.BufferReader(whole)).get_batch(0)
    layout: Layout = {}

    def put(name: str, buffer: Any, kind: Any, count: int) -> None:
        layout[name] = (buffer.address - whole.address if count else 0, np.dtype(kind).str, count)

    for name in record.schema.names:
        if name not in COLUMNS and name not in OPTIONAL:
            continue
        column = record.column(name)
        each = column.type.byte_width if name == "header" else 1
        kind = _KINDS.get(name) or column.type.to_pandas_dtype()
        put(name, (column.indices if name == "bus" else column).buffers()[1], kind, len(column) * each)
    _, offsets, data = record.column("payload").buffers()
    put("offsets", offsets, np.int32, len(record) + 1)
    ends = np.frombuffer(offsets, np.int32, len(record) + 1)
    put("data", data, np.uint8, int(ends[-1]))
    for name in ("order", "arrival"):
        put(name, record.column(name).buffers()[1], np.uint32, len(record))
    return layout


def view_columns(content: Any, layout: Layout) -> dict[str, Any]:
    """The columns of a mapped file."""
    return {
        name: np.frombuffer(content, kind, count, at) if count else np.zeros(0, kind)
        for name, (at, kind, count) in layout.items()
    }


def clustered_from(columns: dict[str, Any], keys: Keys, starts: Rows) -> Clustered:
    """Columns of a segment as clustered frames."""
    order, arrival = columns["order"], columns["arrival"]
    return Clustered(with_all_columns(columns), order, arrival, keys, starts)


def runs_of(batch: FrameBatch) -> tuple[Keys, Rows]:
    """Keys and run starts of a batch that is clustered already."""
    keys = batch.keys()
    starts = np.concatenate([[0], np.flatnonzero(np.diff(keys)) + 1, [len(keys)]]).astype(np.int64)
    return keys[starts[:-1]], starts


class Sealed(Chunk):
    """A sealed segment as a chunk. Index and columns are read when they are first needed."""

    def __init__(self, folder: Path, entry: SegmentEntry, first: int, carry: Callable[[], Carry]) -> None:
        """Look whether the files are there.

        Args:
            folder: The recording.
            entry: What the manifest says of the segment.
            first: Number of its first frame.
            carry: What the frames before it leave behind, needed if the index must be made again.

        Raises:
            RecordingError: the segment's file is missing or cut.
        """
        self.serial = next(_serial)
        self.first, self.rows, self.span = first, entry.rows, Span(entry.start, entry.end)
        self.path, self.entry = segment_path(folder, entry.number), entry
        self._carry_before = carry
        try:
            size = self.path.stat().st_size
        except OSError as error:
            raise RecordingError(str(self.path), f"cannot be read ({error.strerror})") from None
        if size != entry.bytes:
            raise RecordingError(str(self.path), f"has {size} bytes, should have {entry.bytes}")

    @property
    def index_is_whole(self) -> bool:
        """Whether the index has the size it should have; its content is checked when it is read."""
        try:
            return index_path(self.path).stat().st_size == self.entry.index_bytes
        except OSError:
            return False

    @cached_property
    def index(self) -> Index:
        """The index, made again from the segment if it is missing or damaged."""
        try:
            index = read_index(index_path(where_it_lies(self.path)))
            if (index.rows, index.size) == (self.rows, self.entry.bytes) and not index.outdated:
                return index
        except RecordingError:
            pass
        return remake_index(self.path, self._carry_before())

    @property
    def _content(self) -> Any:
        """The mapped file, all of it there: to touch what was cut off would end the process."""
        content = self._mapped
        if content.size() < self.entry.bytes:
            raise RecordingError(
                str(self.path), f"was cut to {content.size()} of {self.entry.bytes} bytes while in use"
            )
        return content

    @property
    def is_whole(self) -> bool:
        """Whether the file has the size it should have."""
        try:
            return self.path.stat().st_size == self.entry.bytes
        except OSError:
            return False

    @cached_property
    def _mapped(self) -> Any:
        try:
            with where_it_lies(self.path).open("rb") as file:
                content = mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ)
        except (OSError, ValueError) as error:
            raise RecordingError(str(self.path), f"cannot be read any more ({error})") from None
        # Left alone, the kernel reads megabytes ahead of every row that is looked at.
        content.madvise(mmap.MADV_RANDOM)
        return content

    @property
    def _columns(self) -> Clustered:
        _ = self._content
        return self._known_columns

    @cached_property
    def _known_columns(self) -> Clustered:
        index = self.index
        columns = view_columns(self._content, index.layout)
        offsets = columns["offsets"]
        # Compiled loops trust the offsets.
        if (offsets[1:] < offsets[:-1]).any() or offsets[0] < 0 or offsets[-1] > len(columns["data"]):
            raise RecordingError(str(self.path), "its payload offsets are damaged; keel verify --repair saves the rest")
        return clustered_from(columns, index.keys, index.starts)

    def read_ahead(self) -> None:
        """Say that all of it will be read, one byte after another."""
        self._content.madvise(mmap.MADV_SEQUENTIAL)
        self._content.madvise(mmap.MADV_WILLNEED)

    def release(self) -> None:
        """Say that it was read for now; what is looked at next is looked at row by row."""
        self._content.madvise(mmap.MADV_RANDOM)

    @property
    def batch(self) -> FrameBatch:
        """The stored rows, in the file."""
        return self._columns.batch

    @property
    def order(self) -> Numbers:
        """Stored row of each frame in order of arrival."""
        return self._columns.order

    @property
    def arrival(self) -> Numbers:
        """When each stored row arrived."""
        return self._columns.arrival

    @property
    def keys(self) -> Keys:
        """The keys present."""
        return self.index.keys

    @property
    def starts(self) -> Rows:
        """Where each key's rows begin."""
        return self.index.starts

    @property
    def before(self) -> Times:
        """Time of the frame of the same key before."""
        return self.index.before

    @property
    def time_before(self) -> int:
        """Time of the frame that arrived before the first."""
        return self.index.time_before

    @property
    def ordered(self) -> bool:
        """Whether times never step back."""
        return self.index.ordered

    @property
    def summary(self) -> Summary:
        """What is known of each key's frames."""
        return self.index.summary

    @property
    def header_bounds(self) -> HeaderBounds | None:
        """Least and most of what headers say."""
        if self.index.other_headers:
            return self._own_bounds
        return self.index.headers

    @cached_property
    def _own_bounds(self) -> HeaderBounds | None:
        return header_bounds(self.batch, self.keys, self.starts)

    @property
    def density(self) -> Density:
        """Traffic over time."""
        return self.index.density

    @property
    def fault_rows(self) -> FaultRows:
        """Faults by key and class."""
        return self.index.faults

    def advance(self, carry: Carry) -> None:
        """Take the frames as gone by."""
        carry.advance(self.index.keys, self.index.lasts, self.index.last_time)


_serial = count(-1, -1)
"""Sealed chunks count downwards, so that no number is given twice."""


def remake_index(path: Path, carry: Carry) -> Index:
    """Make an index from its segment.

    Raises:
        RecordingError: the segment cannot be read either.
    """
    import pyarrow as pa

    try:
        # Not mapped: nobody knows yet whether it is whole.
        content = path.read_bytes()
        layout = layout_of(content)
        columns = view_columns(content, layout)
        held = clustered_from(columns, *runs_of(with_all_columns(columns)))
        return index_of(held, carry, layout, len(content), checksums_of(content))
    except (OSError, pa.ArrowException, KeyError, ValueError, IndexError) as error:
        raise RecordingError(str(path), f"segment cannot be read ({error})") from None
