"""The index of a sealed segment: a small file beside it, ``NNNNNN.index``.

It says where each identifier's rows begin, what is known of them, how traffic is spread over time, which faults
there are, where each column lies in the segment's file, and a checksum of each block of that file. All of it can
be made again from the segment.
"""

from __future__ import annotations

import zlib
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from keel.errors import RecordingError
from keel.model.frames import Rows, Times
from keel.model.identity import Keys
from keel.store.arrays import load_arrays, save_arrays
from keel.store.chunk import Carry, Clustered
from keel.store.density import Density, FaultRows, density_of, fault_rows
from keel.store.summary import Summary, summarise

BLOCK_BYTES = 1 << 16
"""Each block of a segment's file has a checksum: what is damaged is known to within so many bytes."""
VERSION = 1
Layout = dict[str, tuple[int, str, int]]
"""Column by name: where it begins in the file, its type, how many values."""


@dataclass(frozen=True, eq=False)
class Index:
    """What an index says; see `keel.store.chunk.Chunk` for the parts."""

    rows: int
    size: int
    ordered: bool
    time_before: int
    last_time: int
    keys: Keys
    starts: Rows
    before: Times
    lasts: Times
    summary: Summary
    density: Density
    faults: FaultRows
    layout: Layout
    checksums: npt.NDArray[np.uint32]


def index_of(held: Clustered, carry: Carry, layout: Layout, size: int, checksums: Any) -> Index:
    """The index of a segment that holds these frames after those that ``carry`` stands for."""
    batch = held.batch
    in_order = batch.time[held.order]
    rows = np.flatnonzero(batch.faults)
    keys = held.keys[np.searchsorted(held.starts, rows, side="right") - 1]
    return Index(
        len(batch),
        size,
        bool((in_order[1:] >= in_order[:-1]).all()),
        carry.last,
        int(in_order[-1]),
        held.keys,
        held.starts,
        carry.before(held.keys),
        batch.time[held.starts[1:] - 1],
        summarise(batch, held.keys, held.starts[:-1], held.starts[1:]),
        density_of(batch),
        fault_rows(keys, batch.faults[rows], held.arrival[rows].astype(np.int64), batch.time[rows]),
        layout,
        checksums,
    )


def index_path(segment: Path) -> Path:
    """Where the index of a segment lies."""
    return segment.with_suffix(".index")


def write_index(path: Path, index: Index) -> int:
    """Write it as a whole or not at all; returns its size."""
    density = index.density
    meta = {
        "version": VERSION,
        "rows": index.rows,
        "size": index.size,
        "ordered": index.ordered,
        "time_before": index.time_before,
        "last_time": index.last_time,
        "width": density.width,
        "first": density.first,
        "layout": index.layout,
    }
    arrays = {f"summary.{name}": array for name, array in index.summary.arrays().items() if name != "keys"}
    arrays |= {f"faults.{name}": array for name, array in index.faults.arrays().items()}
    arrays |= {f"density.{name}": getattr(density, name) for name in ("frames", "bits", "fast_bits", "faults")}
    arrays |= {name: getattr(index, name) for name in ("keys", "starts", "before", "lasts", "checksums")}
    return save_arrays(path, meta, arrays)


def read_index(path: Path) -> Index:
    """The index in a file.

    Raises:
        RecordingError: it is missing, damaged, or of another version.
    """
    meta, arrays = load_arrays(path)
    if meta.get("version") != VERSION:
        raise RecordingError(str(path), f"index of version {meta.get('version')}, this Keel reads {VERSION}")

    def part(prefix: str) -> dict[str, Any]:
        return {name[len(prefix) :]: array for name, array in arrays.items() if name.startswith(prefix)}

    return Index(
        meta["rows"],
        meta["size"],
        meta["ordered"],
        meta["time_before"],
        meta["last_time"],
        arrays["keys"],
        arrays["starts"],
        arrays["before"],
        arrays["lasts"],
        Summary(keys=arrays["keys"], **part("summary.")),
        Density(meta["width"], meta["first"], **part("density.")),
        FaultRows(**part("faults.")),
        {name: (at, kind, count) for name, (at, kind, count) in meta["layout"].items()},
        arrays["checksums"],
    )


def checksums_of(content: Any) -> npt.NDArray[np.uint32]:
    """The checksum of each block of a file's bytes."""
    view = memoryview(content)
    return np.array([zlib.crc32(view[at : at + BLOCK_BYTES]) for at in range(0, len(view), BLOCK_BYTES)], np.uint32)
