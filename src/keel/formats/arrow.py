"""Frames as Arrow: the columns of a recording, payloads as binary, in order of arrival."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

import numpy as np

from keel.media.every import medium_of
from keel.model.bus import Bus
from keel.model.frames import COLUMNS, FrameBatch

MEDIA_KEY = "keel.media"
"""Where tables say what kind of line each bus is, if any is not CAN: JSON, by name."""


def schema_of(buses: Sequence[Bus]) -> Any:
    """The columns; those that only some kinds of line have are there if a bus is of one."""
    import pyarrow as pa

    kinds: dict[str, Any] = {name: pa.from_numpy_dtype(np.dtype(kind)) for name, kind in COLUMNS.items()}
    kinds["time"] = pa.timestamp("ns", tz="UTC")
    kinds["bus"] = pa.dictionary(pa.uint8(), pa.string())
    width = max((medium_of(bus).header_bytes for bus in buses), default=0)
    more = {"header": pa.binary(width), "duration": pa.int64()} if width else {}
    kinds["faults"] = pa.uint64()
    media = {MEDIA_KEY: json.dumps({bus.name: bus.medium for bus in buses})}
    return pa.schema([*kinds.items(), ("payload", pa.large_binary()), *more.items()], metadata=media if more else None)


def record_of(batch: FrameBatch, buses: Sequence[Bus]) -> Any:
    """A batch as a `pyarrow.RecordBatch`; payloads are not copied."""
    import pyarrow as pa

    arrays: list[Any] = []
    schema = schema_of(buses)
    for name in COLUMNS:
        column = pa.array(getattr(batch, name))
        if name == "faults":
            column = column.cast(pa.uint64())
        elif name == "time":
            column = column.view(pa.timestamp("ns", tz="UTC"))
        elif name == "bus":
            column = pa.DictionaryArray.from_arrays(column, pa.array([bus.name for bus in buses], pa.string()))
        arrays.append(column)
    offsets = pa.py_buffer(np.ascontiguousarray(batch.offsets, np.int64))
    arrays.append(pa.Array.from_buffers(pa.large_binary(), len(batch), [None, offsets, pa.py_buffer(batch.data)]))
    if "header" in schema.names:
        width = schema.field("header").type.byte_width
        header = np.zeros((len(batch), width), np.uint8)
        if batch.header is not None:
            header[:, : batch.header.shape[1]] = batch.header[:, :width]
        arrays.append(pa.Array.from_buffers(pa.binary(width), len(batch), [None, pa.py_buffer(header)]))
        arrays.append(pa.array(np.zeros(len(batch), np.int64) if batch.duration is None else batch.duration))
    return pa.record_batch(arrays, schema=schema)
