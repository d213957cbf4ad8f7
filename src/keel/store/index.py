"""The index of a sealed segment: a small file beside it, ``NNNNNN.index``.

It says where each identifier's rows begin, what is known of them, how traffic is spread over time, which faults
there are, where each column lies in the segment's file, and a checksum of each block of that file. All of it can
be made again from the segment.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from keel.errors import RecordingError
from keel.model.faults import OF_THE_CAPTURE, SPOILS_NOTHING
from keel.model.frames import Flag, Rows, Times
from keel.model.identity import Keys
from keel.store.arrays import load_arrays, save_arrays
from keel.store.chunk import Carry, Clustered
from keel.store.density import COLUMNS as DENSITY_COLUMNS
from keel.store.density import Density, FaultRows, density_of, fault_rows, from_dense
from keel.store.headers import HeaderBounds, header_bounds, laid_out
from keel.store.summary import Summary, summarise

BLOCK_BYTES = 1 << 12
"""Each block of a segment's file has a checksum: what is damaged is known to within so many bytes."""
BLOCK_BYTES_BEFORE = 1 << 16
"""Blocks of indexes that do not say how large theirs are."""
_TOGETHER = 1 << 22
VERSION = 3
READABLE = (2, VERSION)
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
    checksums: npt.NDArray[np.uint64]
    block: int = BLOCK_BYTES
    headers: HeaderBounds | None = None
    outdated: bool = False
    """Whether an older Keel counted in another way: what lies where is right, what is known of frames is not."""
    other_headers: bool = False
    """Whether the bounds of headers were laid out in another way: they alone are made anew."""


def index_of(held: Clustered, carry: Carry, layout: Layout, size: int, checksums: Any) -> Index:
    """The index of a segment that holds these frames after those that ``carry`` stands for."""
    batch = held.batch
    in_order = batch.time[held.order] if held.as_came is None else held.as_came
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
        BLOCK_BYTES,
        header_bounds(batch, held.keys, held.starts),
    )


def index_path(segment: Path) -> Path:
    """Where the index of a segment lies."""
    return segment.with_suffix(".index")


def write_index(path: Path, index: Index) -> int:
    """Write it as a whole or not at all; returns its size."""
    density = index.density
    meta = {
        "version": VERSION,
        "harmless": SPOILS_NOTHING,
        "rows": index.rows,
        "size": index.size,
        "ordered": index.ordered,
        "time_before": index.time_before,
        "last_time": index.last_time,
        "width": density.width,
        "first": density.first,
        "layout": index.layout,
        "block": index.block,
    }
    arrays = {f"summary.{name}": array for name, array in index.summary.arrays().items() if name != "keys"}
    arrays |= {f"faults.{name}": array for name, array in index.faults.arrays().items()}
    arrays |= {f"density.{name}": getattr(density, name) for name in DENSITY_COLUMNS}
    arrays |= {name: getattr(index, name) for name in ("keys", "starts", "before", "lasts", "checksums")}
    if index.headers is not None:
        meta["headers"] = laid_out()
        arrays |= {"headers.least": index.headers.least, "headers.most": index.headers.most}
    return save_arrays(path, meta, arrays)


def read_index(path: Path) -> Index:
    """The index in a file.

    Raises:
        RecordingError: it is missing, damaged, or of another version.
    """
    meta, arrays = load_arrays(path)
    if meta.get("version") not in READABLE:
        known = " and ".join(map(str, READABLE))
        raise RecordingError(str(path), f"index of version {meta.get('version')}, this Keel reads {known}")
    try:
        return _index_from(meta, arrays)
    except (KeyError, TypeError, ValueError) as error:
        raise RecordingError(str(path), f"does not hold an index ({error!r})") from None


def _index_from(meta: dict[str, Any], arrays: dict[str, Any]) -> Index:
    def part(prefix: str) -> dict[str, Any]:
        return {name[len(prefix) :]: array for name, array in arrays.items() if name.startswith(prefix)}

    summary = part("summary.")
    outdated = False
    is_laid_out_so = meta.get("headers", laid_out()) == laid_out()
    if "back" not in summary:
        # Before these were counted, remote requests and times set back were taken for cycles.
        outdated |= not meta["ordered"] or bool((summary["flag_mask"] & np.uint16(Flag.REMOTE)).any())
        summary |= {name: np.zeros(len(arrays["keys"]), np.int64) for name in ("back", "back_ns")}
    if meta["version"] < VERSION:
        summary["fault_mask"] = summary["fault_mask"].astype(np.uint64)
    # Faults that spoil nothing excluded frames before that was known of them: first those of the capture, then others.
    harmless = meta.get("harmless", 0 if meta["version"] < VERSION else OF_THE_CAPTURE)
    outdated |= bool((summary["fault_mask"] & np.uint64(SPOILS_NOTHING & ~harmless)).any())

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
        Summary(keys=arrays["keys"], **summary),
        _density(meta, part("density.")),
        FaultRows(**part("faults.")),
        {name: (at, kind, count) for name, (at, kind, count) in meta["layout"].items()},
        arrays["checksums"],
        meta.get("block", BLOCK_BYTES_BEFORE),
        HeaderBounds(**part("headers.")) if "headers.least" in arrays and is_laid_out_so else None,
        outdated,
        not is_laid_out_so,
    )


def _density(meta: dict[str, Any], columns: dict[str, Any]) -> Density:
    if "place" not in columns:
        return from_dense(meta["width"], meta["first"], columns)
    return Density(meta["width"], meta["first"], **columns)


def checksums_of(content: Any, block: int | None = None) -> npt.NDArray[np.uint64]:
    """The checksum of each block of a file's bytes: its words, each times a weight of its own, added up.

    The weights are odd, so that no change of a single word goes unseen; of other changes one in 2^32 might, at most.
    Three times as fast as a CRC. Source: multilinear hashing; D. Lemire and O. Kaser, Strongly universal string hashing
    is fast, 2014.
    """
    size = block or BLOCK_BYTES
    data = np.frombuffer(content, np.uint8)
    sums = np.zeros(-(-len(data) // size), np.uint64)
    weights, count = _weights(size // 8), size // 8
    whole, step = len(data) // size, max(_TOGETHER // size, 1)
    for low in range(0, whole, step):
        high = min(low + step, whole)
        words = data[low * size : high * size].view(np.uint64).reshape(-1, count)
        sums[low:high] = (words * weights).sum(axis=1, dtype=np.uint64) + np.uint64(count)
    rest = data[whole * size :]
    if len(rest):
        words = np.concatenate([rest, np.zeros(-len(rest) % 8, np.uint8)]).view(np.uint64)
        sums[whole] = (words * weights[: len(words)]).sum(dtype=np.uint64) + np.uint64(len(words))
    return sums


@cache
def _weights(count: int) -> npt.NDArray[np.uint64]:
    """Odd pseudo-random numbers. Source: splitmix64; G. L. Steele, D. Lea and C. H. Flood, 2014."""
    x = np.arange(1, count + 1, dtype=np.uint64) * np.uint64(0x9E3779B97F4A7C15)
    x = (x ^ (x >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    x = (x ^ (x >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    odd: npt.NDArray[np.uint64] = (x ^ (x >> np.uint64(31))) | np.uint64(1)
    return odd
