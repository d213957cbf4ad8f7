"""Signals of frames as they lie in a batch: good frames only, of whatever payload lengths."""

from __future__ import annotations

import numpy as np

from keel.model.frames import Bytes, FrameBatch, Rows, replace_columns
from keel.signals.coding import Decoded, decode
from keel.signals.dictionary import Message
from keel.signals.signal import Signal


def decode_stretch(message: Message, signal: Signal, batch: FrameBatch, low: int, high: int) -> Decoded:
    """A signal in the rows ``low`` to ``high`` of a batch, all of one identifier.

    Returns:
        What is decoded; ``rows`` are rows of the batch. Frames with a fault, and those that do not carry the
        signal, are left out.
    """
    rows = np.arange(low, high)
    if batch.faults[low:high].any():
        rows = rows[batch.is_sound(rows)]
    return decode_rows(message, signal, batch, rows)


def decode_rows(message: Message, signal: Signal, batch: FrameBatch, rows: Rows) -> Decoded:
    """A signal in some rows of a batch, ascending, all of one identifier and without fault."""
    parts = []
    for chosen, payloads in by_length(source_of(signal, batch), rows):
        found = decode(message, signal, payloads)
        if len(found):
            parts.append(Decoded(signal, chosen[found.rows], found.raw, found.values, found.standing))
    if len(parts) == 1:
        return parts[0]
    if not parts:
        return decode(message, signal, np.zeros((0, 0), np.uint8))
    at = np.concatenate([p.rows for p in parts])
    order = np.argsort(at)
    return Decoded(
        signal,
        at[order],
        np.concatenate([p.raw for p in parts])[order],
        np.concatenate([p.values for p in parts])[order],
        np.concatenate([p.standing for p in parts])[order],
    )


def source_of(signal: Signal, batch: FrameBatch) -> FrameBatch:
    """The frames, with that for their payload in which the bits of a signal lie."""
    if signal.source == "payload":
        return batch
    header = batch.header if batch.header is not None else np.zeros((len(batch), 0), np.uint8)
    ends = np.arange(len(batch) + 1, dtype=np.int64) * header.shape[1]
    return replace_columns(batch, offsets=ends, data=np.ascontiguousarray(header).reshape(-1))


def by_length(batch: FrameBatch, rows: Rows) -> list[tuple[Rows, Bytes]]:
    """Payloads of rows as matrices, one for each length there is; not copied where they lie together."""
    if not len(rows):
        return []
    first, last = int(rows[0]), int(rows[-1]) + 1
    starts = batch.offsets[rows].astype(np.int64)
    lengths = batch.offsets[rows + 1].astype(np.int64) - starts
    width = int(lengths[0])
    if (lengths == width).all():
        low, high = int(batch.offsets[first]), int(batch.offsets[last])
        if len(rows) == last - first and high - low == width * len(rows):
            return [(rows, batch.data[low:high].reshape(len(rows), width))]
        return [(rows, batch.data[starts[:, None] + np.arange(width)])]
    found = []
    for width in np.unique(lengths).tolist():
        chosen = lengths == width
        found.append((rows[chosen], batch.data[starts[chosen][:, None] + np.arange(width)]))
    return found
