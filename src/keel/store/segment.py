"""Sealed segments: one Arrow IPC file each, one record batch in it, rows clustered by key.

Any program that reads Arrow reads them: ``order`` holds the stored row of each frame in order of arrival,
so ``table.take(table["order"])`` gives the frames as they came.

PyArrow is imported where it is used: it takes longer to load than the app takes to paint its first screen.
"""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import numpy as np

from keel.errors import RecordingError
from keel.model.frames import COLUMNS, FrameBatch, Rows
from keel.model.identity import Keys
from keel.store.chunk import runs_of

_METADATA = {"keel.schema": "1", "keel.rows": "clustered by bus, form and identifier; see column order"}


def segment_path(folder: Path, number: int) -> Path:
    """Where a segment lies."""
    return folder / "segments" / f"{number:06d}.arrow"


def write_segment(path: Path, batch: FrameBatch, bus_names: list[str]) -> None:
    """Seal a batch that is in order of arrival; the file appears whole or not at all."""
    import pyarrow as pa

    from keel.store.kernels import cluster

    stored, order, _, _ = cluster(batch)
    arrays: list[Any] = []
    for name in COLUMNS:
        column = getattr(stored, name)
        if name == "time":
            arrays.append(pa.array(column).view(pa.timestamp("ns", tz="UTC")))
        elif name == "bus":
            arrays.append(pa.DictionaryArray.from_arrays(pa.array(column), pa.array(bus_names)))
        else:
            arrays.append(pa.array(column))
    buffers = [None, pa.py_buffer(stored.offsets.astype(np.int32)), pa.py_buffer(stored.data)]
    arrays.append(pa.Array.from_buffers(pa.binary(), len(stored), buffers))
    arrays.append(pa.array(order.astype(np.uint32)))
    record = pa.record_batch(arrays, names=[*COLUMNS, "payload", "order"])
    record = record.replace_schema_metadata(_METADATA)
    draft = path.with_suffix(".draft")
    with draft.open("wb") as file:
        with pa.ipc.new_file(file, record.schema) as writer:
            writer.write_batch(record)
        file.flush()
        os.fsync(file.fileno())
    draft.replace(path)


def read_segment(path: Path, rows: int) -> tuple[FrameBatch, Rows, Keys, Rows]:
    """A segment memory-mapped: stored rows, order of arrival, keys and where each begins.

    Raises:
        RecordingError: the file is missing, cut, or not what the manifest says.
    """
    import pyarrow as pa

    try:
        record = pa.ipc.open_file(pa.memory_map(str(path))).get_batch(0)
        columns = {name: _view(record.column(name), kind) for name, kind in COLUMNS.items() if name != "bus"}
        columns["bus"] = _view(record.column("bus").indices, np.uint8)
        payload = record.column("payload")
        _, offsets, data = payload.buffers()
        batch = FrameBatch(
            **columns,
            offsets=np.frombuffer(offsets, np.int32, len(payload) + 1),
            data=np.frombuffer(data, np.uint8) if data is not None else np.zeros(0, np.uint8),
        )
        order = _view(record.column("order"), np.uint32)
    except (OSError, pa.ArrowException, KeyError, ValueError) as error:
        raise RecordingError(str(path), f"segment cannot be read ({error})") from None
    if len(batch) != rows or not rows:
        raise RecordingError(str(path), f"segment has {len(batch)} rows, the manifest says {rows}")
    return batch, order, *runs_of(batch)


def _view(column: Any, kind: Any) -> Any:
    return np.frombuffer(column.buffers()[1], kind, len(column))
