"""Classic pcap captures of link type 227: CAN, CAN FD and error frames, both byte orders, micro- and nanoseconds.

The identifier is big-endian whatever the file's byte order; its top bits say 29-bit (31), remote (30),
error (29). Then come the payload length, FD flags (1 BRS, 2 ESI, 4 FD), a reserved byte, and the raw DLC of
a classic frame where it is over 8.

Source: the pcap file format (IETF draft-ietf-opsawg-pcap) and the link type 227 description.
"""

from __future__ import annotations

import mmap
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numba import njit

from keel.errors import InputError
from keel.formats.reading import Account, Format, Progress
from keel.lines.can import with_wire_bits
from keel.lines.can_errors import classify
from keel.model.frames import LENGTH_TO_DLC, Flag, FrameBatch
from keel.model.identity import EXTENDED_ID_MAX, Form

LINK_TYPE = 227
HEADER_BYTES = 24
BLOCK_BYTES = 16 << 20
MAGICS = {
    b"\xa1\xb2\xc3\xd4": ("big", 1000),
    b"\xd4\xc3\xb2\xa1": ("little", 1000),
    b"\xa1\xb2\x3c\x4d": ("big", 1),
    b"\x4d\x3c\xb2\xa1": ("little", 1),
}
REASONS = (
    "",
    "record shorter than a CAN header",
    "payload longer than the record",
    "payload longer than 64 bytes",
    "record is cut short",
    "record length is not believable; the rest cannot be read",
)
MOST_RECORD_BYTES = 1 << 18


@njit(cache=True, nogil=True)
def _word(buffer: Any, at: int, little: bool) -> Any:
    a, b = np.int64(buffer[at]), np.int64(buffer[at + 1])
    c, d = np.int64(buffer[at + 2]), np.int64(buffer[at + 3])
    if little:
        return a | b << 8 | c << 16 | d << 24
    return d | c << 8 | b << 16 | a << 24


@njit(cache=True, nogil=True)
def _parse(buffer: Any, at: int, end: int, little: bool, ns: int, out: Any, data: Any, bad: Any) -> Any:
    """Parse records from ``at``; returns frames, payload bytes and where it stopped."""
    time, word, fd, dlc, length, number = out
    n = used = 0
    while at + 16 <= end and n < len(time):
        captured = _word(buffer, at + 8, little)
        reason = 0
        if captured > MOST_RECORD_BYTES:
            reason = 5
        elif at + 16 + captured > end:
            break
        elif captured < 8:
            reason = 1
        else:
            took = int(buffer[at + 20])
            if took > 64:
                reason = 3
            elif 8 + took > captured and not buffer[at + 16] & 0x40:
                reason = 2
        number[0] += 1
        if reason:
            if bad[reason, 0] == 0:
                bad[reason, 1] = number[0]
            bad[reason, 0] += 1
            if reason == 5:
                return n, used, -1
            at += 16 + captured
            continue
        seconds = _word(buffer, at, little)
        time[n] = seconds * 1_000_000_000 + _word(buffer, at + 4, little) * ns
        word[n] = _word(buffer, at + 16, False)
        fd[n] = buffer[at + 21]
        raw = int(buffer[at + 23])
        dlc[n] = raw if took == 8 and 8 < raw < 16 else LENGTH_TO_DLC[took]
        if word[n] & 0x40000000 and not word[n] & 0x20000000:
            took = 0
        for k in range(took):
            data[used + k] = buffer[at + 24 + k]
        length[n] = took
        used += took
        n += 1
        at += 16 + captured
    return n, used, at


def read(path: Path, account: Account, progress: Progress) -> Iterator[FrameBatch]:
    """Read a capture in blocks.

    Raises:
        InputError: the link type is another, or the file ends within its header.
    """
    account.bus_names = ["bus0"]
    with path.open("rb") as file, mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as whole:
        little, ns = _read_header(path, whole)
        buffer = np.frombuffer(whole, np.uint8)
        try:
            yield from _read_records(buffer, little, ns, account, progress)
        finally:
            del buffer


def _read_header(path: Path, whole: mmap.mmap) -> tuple[bool, int]:
    if len(whole) < HEADER_BYTES:
        raise InputError(str(path), f"ends after {len(whole)} bytes", f"a pcap header of {HEADER_BYTES} bytes")
    order, ns = MAGICS[whole[:4]]
    link = int.from_bytes(whole[20:24], "big" if order == "big" else "little") & 0xFFFF
    if link != LINK_TYPE:
        raise InputError(str(path), f"link type {link}", f"link type {LINK_TYPE} (CAN)")
    return order == "little", ns


def _read_records(buffer: Any, little: bool, ns: int, account: Account, progress: Progress) -> Iterator[FrameBatch]:
    total, at, last = len(buffer), HEADER_BYTES, 0
    bad = np.zeros((len(REASONS), 2), np.int64)
    number = np.zeros(1, np.int64)
    while at < total:
        end = min(at + BLOCK_BYTES, total)
        room = (end - at) // 24 + 1
        kinds = (np.int64, np.int64, np.uint8, np.uint8, np.int64)
        out = (*(np.empty(room, kind) for kind in kinds), number)
        data = np.empty(end - at + 64, np.uint8)
        n, used, stopped = _parse(buffer, at, end, little, ns, out, data, bad)
        for reason, (count, first) in enumerate(bad):
            if count:
                account.skipped[REASONS[reason]] = int(count)
                account.examples.setdefault(REASONS[reason], f"record {first}")
        if n:
            time, word, fd, dlc, length = (column[:n] for column in out[:5])
            account.frames += n
            account.back_steps += int((np.diff(time) < 0).sum()) + int(time[0] < last)
            last = int(time[-1])
            yield _batch(time, word, fd, dlc, length, data[:used])
        if stopped < 0:
            return
        if end == total:
            if stopped < total:
                account.skip(REASONS[4], f"record {int(number[0]) + 1}")
            progress(total, total)
            return
        at = stopped
        progress(at, total)


def _batch(time: Any, word: Any, fd: Any, dlc: Any, length: Any, data: Any) -> FrameBatch:
    n = len(time)
    offsets = np.zeros(n + 1, np.int64)
    np.cumsum(length, out=offsets[1:])
    error = (word & 0x2000_0000) != 0
    extended = (word & 0x8000_0000) != 0
    # Older captures of FD frames lack the FD flag; only an FD frame is longer than 8 bytes.
    is_fd = ~error & (((fd & 4) != 0) | (length > 8))
    flags = np.where(error, int(Flag.ERROR), 0) | np.where(is_fd, int(Flag.FD), 0)
    flags |= np.where(~error & ((word & 0x4000_0000) != 0), int(Flag.REMOTE), 0)
    flags |= np.where(is_fd & ((fd & 1) != 0), int(Flag.BRS), 0)
    flags |= np.where(is_fd & ((fd & 2) != 0), int(Flag.ESI), 0)
    form = np.where(error, int(Form.NONE), np.where(extended, int(Form.EXTENDED), int(Form.BASE)))
    number = word & EXTENDED_ID_MAX
    ident = np.where(extended, number, number & 0x7FF).astype(np.uint64)
    batch = FrameBatch(
        time,
        np.zeros(n, np.uint8),
        form.astype(np.uint8),
        np.where(error, np.uint64(0), ident),
        flags.astype(np.uint16),
        np.zeros(n, np.uint32),
        dlc,
        np.zeros(n, np.uint32),
        np.zeros(n, np.uint16),
        offsets,
        data,
    )
    rows = np.flatnonzero(error)
    if len(rows):
        batch.faults[rows] = classify(number[rows].astype(np.uint64), batch.take(rows).matrix(0, len(rows), 8))
    return with_wire_bits(batch)


def _recognises(head: bytes) -> str | None:
    if head[:4] not in MAGICS:
        return None
    order, ns = MAGICS[head[:4]]
    return f"begins with a pcap header, {order}-endian, {'nanoseconds' if ns == 1 else 'microseconds'}"


FORMAT = Format("pcap (link type 227)", _recognises, read)
