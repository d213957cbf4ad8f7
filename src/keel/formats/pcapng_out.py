"""pcapng captures of link type 227, written: one section, one interface per bus, nanoseconds, directions.

A frame that a record of this link type cannot say in full has it in a comment (`keel.formats.frametext`).
"""

from __future__ import annotations

import struct
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
from numba import njit

from keel.formats.canrecord import LINK_TYPE, frames_to_records
from keel.formats.frametext import frame_text
from keel.formats.pcapng import COMMENT, ENHANCED, IF_NAME, IF_TSRESOL, INTERFACE, SECTION
from keel.model.frames import Flag, FrameBatch

USER_APPLICATION, FLAGS = 4, 2


@njit(cache=True, nogil=True)
def _put(out: Any, at: Any, value: Any) -> Any:
    for k in range(4):
        out[at + k] = (value >> (8 * k)) & 0xFF
    return at + 4


@njit(cache=True, nogil=True)
def _write(out: Any, time: Any, bus: Any, word: Any, fd: Any, size: Any, flags: Any, offsets: Any, data: Any,
           texts: Any, text_offsets: Any) -> int:  # fmt: skip
    """Write enhanced packet blocks; returns how many bytes they take."""
    at = 0
    for i in range(len(time)):
        start = at
        captured = 8 + size[i]
        at = _put(out, at, ENHANCED)
        at = _put(out, at + 4, bus[i])
        at = _put(out, at, time[i] >> 32)
        at = _put(out, at, time[i] & 0xFFFFFFFF)
        at = _put(out, at, captured)
        at = _put(out, at, captured)
        for k in range(4):
            out[at + k] = (word[i] >> (24 - 8 * k)) & 0xFF
        out[at + 4], out[at + 5], out[at + 6], out[at + 7] = size[i], fd[i] & 0xFF, 0, fd[i] >> 8
        at += 8
        held = min(offsets[i + 1] - offsets[i], size[i])
        for k in range(held):
            out[at + k] = data[offsets[i] + k]
        for k in range(held, (size[i] + 3) & ~3):
            out[at + k] = 0
        at += (size[i] + 3) & ~3
        length = text_offsets[i + 1] - text_offsets[i]
        sent = flags[i] & 32
        if length:
            at = _put(out, at, COMMENT | length << 16)
            for k in range((length + 3) & ~3):
                out[at + k] = texts[text_offsets[i] + k] if k < length else 0
            at += (length + 3) & ~3
        if sent:
            at = _put(out, at, FLAGS | 4 << 16)
            at = _put(out, at, 2)
        if length or sent:
            at = _put(out, at, 0)
        total = at + 4 - start
        at = _put(out, at, total)
        _put(out, start + 4, total)
    return at


assert int(Flag.TX) == 32


def _block(kind: int, body: bytes) -> bytes:
    size = len(body) + 12
    return struct.pack("<II", kind, size) + body + struct.pack("<I", size)


def _option(code: int, value: bytes) -> bytes:
    return struct.pack("<HH", code, len(value)) + value + bytes(-len(value) % 4)


class PcapngWriter:
    """Writes a capture."""

    def __init__(self, path: Path, bus_names: list[str], notes: list[str], comments: dict[int, str]) -> None:
        self._file: BinaryIO = path.open("wb")
        self._comments = comments
        application = _option(USER_APPLICATION, b"Keel")
        said = b"".join(_option(COMMENT, note.encode()[:60_000]) for note in notes)
        header = struct.pack("<IHHq", 0x1A2B3C4D, 1, 0, -1) + said + application + _option(0, b"")
        self._file.write(_block(SECTION, header))
        for name in bus_names:
            options = _option(IF_NAME, name.encode()) + _option(IF_TSRESOL, b"\x09") + _option(0, b"")
            self._file.write(_block(INTERFACE, struct.pack("<HHI", LINK_TYPE, 0, 0) + options))

    def write(self, batch: FrameBatch, numbers: Any) -> None:
        """Add frames; ``numbers`` are theirs in the recording."""
        word, fd, size, plain = frames_to_records(batch)
        texts: dict[int, bytes] = {row: frame_text(batch, row).encode() for row in np.flatnonzero(~plain).tolist()}
        # A record's payload has 64 bytes at most; the text has all of it.
        size = np.where(plain, size, np.minimum(size, 64))
        for row, number in enumerate(numbers.tolist() if self._comments else ()):
            if number in self._comments and row not in texts:
                texts[row] = self._comments[number].encode()[:60_000]
        ends = np.zeros(len(batch) + 1, np.int64)
        ends[1:] = np.cumsum([len(texts.get(row, b"")) for row in range(len(batch))]) if texts else 0
        joined = np.frombuffer(b"".join(texts[row] for row in sorted(texts)), np.uint8)
        out = np.empty(len(batch) * 72 + int(size.sum()) + len(joined), np.uint8)
        used = _write(out, batch.time, batch.bus, word, fd, size, batch.flags, batch.offsets, batch.data, joined, ends)
        self._file.write(out[:used].tobytes())

    def close(self) -> None:
        """Finish the file."""
        self._file.close()
