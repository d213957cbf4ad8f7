"""What can be saved of a damaged segment: every frame whose time and identifier are known.

A checksum tells damage to within a block of the file, so a block counts as bad as a whole. What the index says
besides, or other columns, is used in its place: bus, form and identifier lie in the index; of an identifier that never
had a flag or a fault none has; the DLC follows from the length, where the bits on the wire confirm it; the order is in
two columns. A frame whose payload is not all there keeps the bytes before the damage and is marked as truncated; its
flags, if they are gone as well, are taken to be those of its identifier's last frame.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from keel.errors import RecordingError
from keel.lines.can import with_wire_bits
from keel.model.faults import Fault
from keel.model.frames import COLUMNS, LENGTH_TO_DLC, OPTIONAL, Flag, FrameBatch, Mask, Rows, replace_columns
from keel.model.identity import unpack_key
from keel.store.columns import with_all_columns
from keel.store.index import Index, Layout
from keel.store.segment import view_columns
from keel.store.verify import Span

_SAYS_NOTHING = int(Flag.TX | Flag.ESI)
"""Flags that change nothing, or next to nothing, in the bits on the wire."""


def salvage(path: Path, index: Index, bad: list[Span]) -> tuple[FrameBatch, int]:
    """The frames that are known, in order of arrival; and how many of them lack bytes of their payload.

    Args:
        path: The segment's file.
        index: Its index, which is whole.
        bad: Ranges of bytes that are wrong or missing.

    Raises:
        RecordingError: the file cannot be read.
    """
    try:
        content = path.read_bytes()
    except OSError as error:
        raise RecordingError(str(path), f"cannot be read ({error.strerror})") from None
    # What is missing at the end is filled up, and is bad.
    held = view_columns(content[: index.size].ljust(index.size, b"\0"), index.layout)
    whole_batch = with_all_columns(held)
    columns = held | {name: getattr(whole_batch, name) for name in COLUMNS} | whole_batch.extras()
    runs = np.repeat(np.arange(len(index.keys)), np.diff(index.starts))
    known = ~_bad_items(index.layout, "time", bad)
    starts, stops, whole, sizes = _payloads(columns, index, bad)
    rows = np.flatnonzero(known)
    if not len(rows):
        return _frames(columns, index, runs, rows, starts, stops, columns["flags"], columns["faults"]), 0
    flags, flags_known = _flags(columns, index, runs, bad)
    faults, faults_known = _from_mask(columns, index, runs, bad, "faults", index.summary.fault_mask)
    flags = np.where(flags_known | whole, flags, index.summary.flags[runs]).astype(flags.dtype)
    faults = np.where(faults_known | whole, faults, 0).astype(faults.dtype)
    rows = rows[(~whole | (flags_known & faults_known))[rows]]
    rows = rows[np.argsort(_arrivals(columns, index, bad)[rows], kind="stable")]
    cut = ~whole[rows]
    faults[rows[cut]] |= faults.dtype.type(Fault.TRUNCATED)
    batch = _frames(columns, index, runs, rows, starts, stops, flags, faults)
    batch, sure = _with_dlc(batch, columns, index, bad, rows, sizes[rows], cut)
    kept = np.flatnonzero(sure)
    return with_wire_bits(batch.take(kept)), int(np.count_nonzero(cut[kept]))


def _payloads(columns: dict[str, Any], index: Index, bad: list[Span]) -> tuple[Rows, Rows, Mask, Rows]:
    """Where the payload of each row begins and ends, cut before what is bad; whether it is all there; its length.

    The length is that of all of it, 0 where it is not known.
    """
    ends_bad = _bad_items(index.layout, "offsets", bad)
    offsets = columns["offsets"].astype(np.int64)
    whole = ~(ends_bad[:-1] | ends_bad[1:])
    whole &= (offsets[:-1] >= 0) & (offsets[1:] >= offsets[:-1]) & (offsets[1:] <= len(columns["data"]))
    starts, stops = np.where(whole, offsets[:-1], 0), np.where(whole, offsets[1:], 0)
    sizes = stops - starts
    spoilt = np.flatnonzero(_bad_items(index.layout, "data", bad))
    if len(spoilt):
        after = np.searchsorted(spoilt, starts)
        first = np.where(after < len(spoilt), spoilt[np.minimum(after, len(spoilt) - 1)], len(columns["data"]))
        hit = whole & (first < stops)
        stops = np.where(hit, first, stops)
        whole &= ~hit
    return starts, stops, whole, sizes


def _frames(
    columns: dict[str, Any], index: Index, runs: Rows, rows: Rows, starts: Rows, stops: Rows, flags: Any, faults: Any
) -> FrameBatch:
    keys = [unpack_key(key) for key in index.keys.tolist()]
    parts = {name: np.array([int(key[i]) for key in keys]) for i, name in enumerate(("bus", "form", "ident"))}
    given = {name: parts[name][runs[rows]] if name in parts else columns[name][rows] for name in COLUMNS}
    given |= {"flags": flags[rows], "faults": faults[rows]}
    lengths = (stops - starts)[rows]
    offsets = np.zeros(len(rows) + 1, np.int64)
    np.cumsum(lengths, out=offsets[1:])
    at = np.arange(int(offsets[-1])) + np.repeat(starts[rows] - offsets[:-1], lengths)
    kinds = {name: given[name].astype(kind) for name, kind in COLUMNS.items() if name != "faults"}
    extras = {name: columns[name][rows] for name in OPTIONAL if name in columns}
    return FrameBatch(**kinds, faults=given["faults"], offsets=offsets, data=columns["data"][at], **extras)


def _from_mask(columns: dict[str, Any], index: Index, runs: Rows, bad: list[Span], name: str, mask: Any) -> Any:
    """A column of bits, those of bad blocks taken from what occurs at all; and where that is certain."""
    spoilt = _bad_items(index.layout, name, bad)
    never = mask[runs] == 0
    return np.where(spoilt & never, 0, columns[name]).astype(columns[name].dtype), ~spoilt | never


def _flags(columns: dict[str, Any], index: Index, runs: Rows, bad: list[Span]) -> Any:
    flags, certain = _from_mask(columns, index, runs, bad, "flags", index.summary.flag_mask)
    masks = index.summary.flag_mask[runs].astype(np.int64)
    # What the wire tells is checked with the bits on it, if they are known.
    checked = ~certain & (flags & ~masks == 0) & (masks & _SAYS_NOTHING == 0) & ~_bad_items(index.layout, "bits", bad)
    return flags, certain | checked


def _with_dlc(
    batch: FrameBatch, columns: dict[str, Any], index: Index, bad: list[Span], rows: Rows, sizes: Rows, cut: Mask
) -> tuple[FrameBatch, Mask]:
    """The batch with a DLC for every frame; and which frames are consistent with the bits that were on the wire."""
    spoilt = _bad_items(index.layout, "dlc", bad)[rows]
    usual = LENGTH_TO_DLC[np.minimum(sizes, 64)]
    # A classic frame of 8 bytes, and a request, may have had any.
    only_one = (batch.flags & np.uint16(Flag.REMOTE) == 0) & ((batch.flags & np.uint16(Flag.FD) != 0) | (sizes != 8))
    dlc = np.where(spoilt, usual, batch.dlc).astype(np.uint8)
    mended = replace_columns(batch, dlc=dlc)
    doubtful = (spoilt | _bad_items(index.layout, "flags", bad)[rows]) & ~cut
    told = ~(_bad_items(index.layout, "bits", bad) | _bad_items(index.layout, "fast_bits", bad))[rows]
    again = with_wire_bits(mended)
    same = (again.bits == columns["bits"][rows]) & (again.fast_bits == columns["fast_bits"][rows])
    return mended, ~doubtful | (told & same) | (~told & spoilt & only_one)


def _bad_items(layout: Layout, name: str, bad: list[Span]) -> Mask:
    """Which values of a column have bad bytes."""
    at, kind, count = layout.get(name, (0, "|u1", layout["time"][2]))
    if name not in layout:
        # It is 0 throughout, whatever else is damaged.
        return np.zeros(count, np.bool_)
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
