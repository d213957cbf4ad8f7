"""Batches of frames as columns.

Times are nanoseconds since 1970 (UTC). Payloads lie end to end in ``data``; frame i has
``data[offsets[i]:offsets[i + 1]]``. ``bits`` and ``fast_bits`` are the exact bits on the wire, stuffing
and interframe space included, at the bus's arbitration and data bit rate: the time on the wire follows
from them and stays right when a bit rate is corrected later.

Lines of other kinds count no bits: what was measured lies in ``duration``, and what a frame says of itself beside its
identifier and payload in ``header``. Both are None where no frame has them, so that CAN pays nothing for them.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields
from enum import IntFlag
from typing import Any, TypeAlias

import numpy as np
import numpy.typing as npt

from keel.model.faults import SPOILS_NOTHING
from keel.model.identity import Form, Keys, pack_keys

Rows: TypeAlias = npt.NDArray[np.int64]
Times: TypeAlias = npt.NDArray[np.int64]
Bytes: TypeAlias = npt.NDArray[np.uint8]
FaultBits: TypeAlias = npt.NDArray[np.unsignedinteger[Any]]
Mask: TypeAlias = npt.NDArray[np.bool_]

FD_LENGTHS = (0, 1, 2, 3, 4, 5, 6, 7, 8, 12, 16, 20, 24, 32, 48, 64)
"""Payload length by DLC for CAN FD. Source: ISO 11898-1:2015, table 5."""

LENGTH_TO_DLC = np.searchsorted(FD_LENGTHS, np.arange(65)).astype(np.uint8)
"""The smallest DLC that holds a payload of so many bytes."""


class Flag(IntFlag):
    """What a frame is, apart from what went wrong with it."""

    REMOTE = 1 << 0
    ERROR = 1 << 1
    FD = 1 << 2
    BRS = 1 << 3
    ESI = 1 << 4
    TX = 1 << 5
    ASIDE = 1 << 6
    """Not one of those that cycle times and changes are made of: it carries no data, or repeats the one before."""


PASSED_OVER = Flag.REMOTE | Flag.ERROR | Flag.ASIDE
"""Flags of frames that cycle times, changes of payload and evidence pass over."""


COLUMNS: dict[str, Any] = {
    "time": np.int64,
    "bus": np.uint8,
    "form": np.uint8,
    "ident": np.uint64,
    "flags": np.uint16,
    "faults": np.uint32,
    "dlc": np.uint8,
    "bits": np.uint32,
    "fast_bits": np.uint16,
}
"""The fixed-width columns of a batch and their types. Faults are as wide as they must be: 64 bits where 32 are not
enough."""


@dataclass(frozen=True, eq=False)
class FrameBatch:
    """Frames as columns, all of shape (n,) but ``offsets`` (n + 1,), ``data`` (total bytes,), ``header`` (n, bytes).

    Attributes:
        header: The header of each frame, laid out as its medium says; what is wider than that is 0.
        duration: How long each frame took on the line, measured, in ns; 0 where it was not.
    """

    time: Times
    bus: npt.NDArray[np.uint8]
    form: npt.NDArray[np.uint8]
    ident: Keys
    flags: npt.NDArray[np.uint16]
    faults: FaultBits
    dlc: npt.NDArray[np.uint8]
    bits: npt.NDArray[np.uint32]
    fast_bits: npt.NDArray[np.uint16]
    offsets: npt.NDArray[np.int64]
    data: Bytes
    header: Bytes | None = None
    duration: Times | None = None

    def __len__(self) -> int:
        return len(self.time)

    @property
    def lengths(self) -> Rows:
        """Payload length of each frame, shape (n,)."""
        return np.diff(self.offsets).astype(np.int64, copy=False)

    def keys(self) -> Keys:
        """The key of each frame, shape (n,)."""
        return pack_keys(self.bus, self.form, self.ident)

    def passed_over(self) -> Bytes:
        """1 for frames that cycle times and changes of payload pass over, else 0; shape (n,).

        Those are frames with a fault that spoils them, remote requests, and what repeats the frame before or carries no
        data.
        """
        return (~self.is_good(slice(None))).view(np.uint8)

    def is_sound(self, rows: Any) -> Mask:
        """Which of some rows have no fault that spoils their identifier or payload: values are read from them."""
        faults = self.faults[rows]
        sound: Mask = faults == 0
        if not sound.all():
            sound = faults & faults.dtype.type(~SPOILS_NOTHING & np.iinfo(faults.dtype).max) == 0
        return sound

    def is_good(self, rows: Any) -> Mask:
        """Which of some rows `passed_over` leaves."""
        good: Mask = self.is_sound(rows) & (self.flags[rows] & np.uint16(PASSED_OVER) == 0)
        return good

    def extras(self) -> dict[str, Any]:
        """The columns that not all batches have, those that this one has."""
        return {name: column for name in OPTIONAL if (column := getattr(self, name)) is not None}

    def payload(self, row: int, most: int | None = None) -> bytes:
        """The payload of one frame; at most its first ``most`` bytes."""
        start, end = int(self.offsets[row]), int(self.offsets[row + 1])
        return self.data[start : end if most is None else min(end, start + most)].tobytes()

    def slice(self, start: int, stop: int) -> FrameBatch:
        """Rows ``start`` to ``stop``, without copying payloads."""
        offsets = self.offsets[start : stop + 1]
        low, high = (int(offsets[0]), int(offsets[-1])) if len(offsets) else (0, 0)
        columns = {name: getattr(self, name)[start:stop] for name in COLUMNS}
        extras = {name: column[start:stop] for name, column in self.extras().items()}
        return FrameBatch(**columns, offsets=offsets - low, data=self.data[low:high], **extras)

    def take(self, rows: npt.NDArray[Any], most: int | None = None) -> FrameBatch:
        """The frames at ``rows``, in that order, copied; of payloads at most the first ``most`` bytes."""
        rows = np.asarray(rows, np.int64)
        columns = {name: getattr(self, name)[rows] for name in COLUMNS}
        extras = {name: column[rows] for name, column in self.extras().items()}
        offsets, data = take_payloads(self.offsets, self.data, rows, most)
        return FrameBatch(**columns, offsets=offsets, data=data, **extras)

    def bytes_at(self, index: int) -> tuple[npt.NDArray[np.int16], Mask]:
        """Byte ``index`` of each payload, and whether it has one; both shape (n,)."""
        at = self.offsets[:-1] + index
        present = at < self.offsets[1:]
        if not len(self.data):
            return np.full(len(self), -1, np.int16), present
        found = self.data[np.minimum(at, len(self.data) - 1)].astype(np.int16)
        return np.where(present, found, np.int16(-1)), present

    def matrix(self, start: int, stop: int, width: int) -> Bytes:
        """Payloads of rows ``start`` to ``stop`` as shape (rows, width), cut or filled with 0."""
        offsets = self.offsets[start : stop + 1]
        if stop <= start:
            return np.zeros((0, width), np.uint8)
        low, high = int(offsets[0]), int(offsets[-1])
        if high - low == (stop - start) * width and (np.diff(offsets) == width).all():
            return self.data[low:high].reshape(stop - start, width)
        at = offsets[:-1, None] + np.arange(width)
        present = at < offsets[1:, None]
        if not len(self.data):
            return np.zeros((stop - start, width), np.uint8)
        return np.where(present, self.data[np.minimum(at, len(self.data) - 1)], np.uint8(0))


LARGE = 1 << 12
"""Payloads that are larger on average are copied one by one."""
OPTIONAL = ("header", "duration")
"""The columns that a batch may be without."""


def take_payloads(offsets: Any, data: Bytes, rows: Rows, most: int | None = None) -> tuple[Rows, Bytes]:
    """Offsets and bytes of the payloads at ``rows``, laid end to end; of each at most the first ``most`` bytes."""
    starts = np.asarray(offsets)[rows].astype(np.int64)
    lengths = np.asarray(offsets)[rows + 1].astype(np.int64) - starts
    if most is not None:
        lengths = np.minimum(lengths, most)
    new = np.zeros(len(rows) + 1, np.int64)
    np.cumsum(lengths, out=new[1:])
    return new, copied(data, starts, new)


def copied(data: Bytes, starts: Rows, offsets: Rows) -> Bytes:
    """Stretches of some bytes, laid end to end: the i-th from ``starts[i]`` on, as long as ``offsets`` says."""
    lengths, total = np.diff(offsets), int(offsets[-1])
    if total > LARGE * len(starts):
        # Large ones are copied by slices: an index of each byte would take eight times their room.
        whole = np.empty(total, np.uint8)
        for start, length, at in zip(starts.tolist(), lengths.tolist(), offsets.tolist(), strict=False):
            whole[at : at + length] = data[start : start + length]
        return whole
    index = np.arange(total, dtype=np.int64) + np.repeat(starts - offsets[:-1], lengths)
    return data[index]


def empty_batch() -> FrameBatch:
    """A batch of no frames."""
    columns = {name: np.zeros(0, kind) for name, kind in COLUMNS.items()}
    return FrameBatch(**columns, offsets=np.zeros(1, np.int64), data=np.zeros(0, np.uint8))


def concat(batches: Sequence[FrameBatch]) -> FrameBatch:
    """The batches one after another."""
    if not batches:
        return empty_batch()
    if len(batches) == 1:
        return batches[0]
    columns = {name: np.concatenate([getattr(b, name) for b in batches]) for name in COLUMNS}
    base = np.cumsum([0] + [int(b.offsets[-1] - b.offsets[0]) for b in batches])
    offsets = [b.offsets[:-1] - b.offsets[0] + base[i] for i, b in enumerate(batches)]
    offsets.append(np.array([base[-1]], np.int64))
    data = [b.data[b.offsets[0] : b.offsets[-1]] for b in batches]
    extras: dict[str, Any] = {}
    if any(b.header is not None for b in batches):
        width = max(b.header.shape[1] for b in batches if b.header is not None)
        extras["header"] = np.concatenate([_widened(b, width) for b in batches])
    if any(b.duration is not None for b in batches):
        measured = [np.zeros(len(b), np.int64) if b.duration is None else b.duration for b in batches]
        extras["duration"] = np.concatenate(measured)
    return FrameBatch(**columns, offsets=np.concatenate(offsets), data=np.concatenate(data), **extras)


def _widened(batch: FrameBatch, width: int) -> Bytes:
    """The headers of a batch at a greater width."""
    wide = np.zeros((len(batch), width), np.uint8)
    if batch.header is not None:
        wide[:, : batch.header.shape[1]] = batch.header
    return wide


def faults_of(values: Any) -> Any:
    """A column of faults: of 32 bits where they are enough."""
    wide = np.asarray(values, np.uint64)
    return wide if wide.size and int(wide.max()) >> 32 else wide.astype(np.uint32)


def batch_of(
    time: Any,
    ident: Any,
    payloads: Sequence[bytes] | Bytes,
    *,
    bus: Any = 0,
    form: Any = Form.BASE,
    flags: Any = 0,
    faults: Any = 0,
    dlc: Any = None,
    header: Any = None,
    duration: Any = None,
) -> FrameBatch:
    """A batch from plain values; scalars are repeated, ``payloads`` may be an (n, bytes) array.

    The bits on the wire are left at 0; `keel.lines.can.with_wire_bits` fills them in.
    """
    n = len(payloads)
    if isinstance(payloads, np.ndarray):
        lengths = np.full(n, payloads.shape[1], np.int64)
        data = np.ascontiguousarray(payloads).reshape(-1)
    else:
        lengths = np.array([len(p) for p in payloads], np.int64)
        data = np.frombuffer(b"".join(payloads), np.uint8)
    given = {"time": time, "bus": bus, "form": form, "ident": ident, "flags": flags, "faults": faults}
    given["dlc"] = LENGTH_TO_DLC[np.minimum(lengths, 64)] if dlc is None else dlc
    given["bits"] = given["fast_bits"] = 0
    given["faults"] = faults_of(faults)
    kinds = COLUMNS | {"faults": given["faults"].dtype}
    columns = {k: np.broadcast_to(np.asarray(given[k], kind), n).copy() for k, kind in kinds.items()}
    offsets = np.zeros(n + 1, np.int64)
    np.cumsum(lengths, out=offsets[1:])
    return FrameBatch(**columns, offsets=offsets, data=data, header=header, duration=duration)


def replace_columns(batch: FrameBatch, **columns: Any) -> FrameBatch:
    """The batch with some columns exchanged."""
    kept = {f.name: getattr(batch, f.name) for f in fields(batch)}
    return FrameBatch(**{**kept, **columns})
