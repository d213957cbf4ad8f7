"""Frames as Arrow: the columns of a recording, payloads as binary, in order of arrival."""

from __future__ import annotations

from typing import Any

import numpy as np

from keel.model.frames import COLUMNS, FrameBatch


def schema_of() -> Any:
    """The columns."""
    import pyarrow as pa

    kinds: dict[str, Any] = {name: pa.from_numpy_dtype(np.dtype(kind)) for name, kind in COLUMNS.items()}
    kinds["time"] = pa.timestamp("ns", tz="UTC")
    kinds["bus"] = pa.dictionary(pa.uint8(), pa.string())
    return pa.schema([*kinds.items(), ("payload", pa.large_binary())])


def record_of(batch: FrameBatch, bus_names: list[str]) -> Any:
    """A batch as a `pyarrow.RecordBatch`; payloads are not copied."""
    import pyarrow as pa

    arrays: list[Any] = []
    for name in COLUMNS:
        column = pa.array(getattr(batch, name))
        if name == "time":
            column = column.view(pa.timestamp("ns", tz="UTC"))
        elif name == "bus":
            column = pa.DictionaryArray.from_arrays(column, pa.array(bus_names, pa.string()))
        arrays.append(column)
    offsets = pa.py_buffer(np.ascontiguousarray(batch.offsets, np.int64))
    arrays.append(pa.Array.from_buffers(pa.large_binary(), len(batch), [None, offsets, pa.py_buffer(batch.data)]))
    return pa.record_batch(arrays, schema=schema_of())
