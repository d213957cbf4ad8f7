"""The journal: the newest rows as checksummed blocks, one ``write`` each.

A block is ``KEELROWS`` · body length (u32) · CRC-32 of the body (u32) · body. The body is the row count (u32),
then the columns of `COLUMNS` in order, then the payload lengths (u32 each), then the payload bytes. Little-endian.
"""

from __future__ import annotations

import os
import struct
import zlib
from dataclasses import dataclass
from pathlib import Path
from typing import IO

import numpy as np

from keel.model.frames import COLUMNS, FrameBatch

MAGIC = b"KEELROWS"
HEADER = struct.Struct("<8sII")
_COUNT = struct.Struct("<I")
ROW_BYTES = sum(np.dtype(kind).itemsize for kind in COLUMNS.values()) + 4


def encode_block(batch: FrameBatch) -> bytes:
    """A batch as one block."""
    parts = [_COUNT.pack(len(batch))]
    parts += [getattr(batch, name).astype(kind, copy=False).tobytes() for name, kind in COLUMNS.items()]
    parts.append(batch.lengths.astype("<u4").tobytes())
    parts.append(batch.data[batch.offsets[0] : batch.offsets[-1]].tobytes())
    body = b"".join(parts)
    return HEADER.pack(MAGIC, len(body), zlib.crc32(body)) + body


def decode_body(body: bytes) -> FrameBatch:
    """The batch of a block's body, whose checksum was right."""
    (count,) = _COUNT.unpack_from(body)
    at = _COUNT.size
    columns = {}
    for name, kind in COLUMNS.items():
        columns[name] = np.frombuffer(body, kind, count, at)
        at += count * np.dtype(kind).itemsize
    offsets = np.zeros(count + 1, np.int64)
    np.cumsum(np.frombuffer(body, "<u4", count, at), out=offsets[1:])
    data = np.frombuffer(body, np.uint8, int(offsets[-1]), at + 4 * count)
    return FrameBatch(**columns, offsets=offsets, data=data)


@dataclass
class JournalReader:
    """Reads a journal as it grows; goes on reading after the recorder has sealed and removed the file.

    Attributes:
        position: Where the next block begins.
        damaged: Bytes passed over because no whole block could be made of them.
        gone: Whether the file was removed before it could be opened.
    """

    path: Path
    position: int = 0
    damaged: int = 0
    gone: bool = False
    _seen: int = 0
    _file: IO[bytes] | None = None

    def read_new(self) -> list[FrameBatch]:
        """The batches added since the last call; an unfinished block at the end is left for the next."""
        if self._file is None:
            try:
                self._file = self.path.open("rb")
            except FileNotFoundError:
                self.gone = True
                return []
        size = os.fstat(self._file.fileno()).st_size
        if size == self._seen:
            return []
        self._seen = size
        self._file.seek(self.position)
        data = self._file.read()
        batches: list[FrameBatch] = []
        at = 0
        while at + HEADER.size <= len(data):
            magic, length, checksum = HEADER.unpack_from(data, at)
            end = at + HEADER.size + length
            if magic == MAGIC and end <= len(data):
                body = data[at + HEADER.size : end]
                if zlib.crc32(body) == checksum:
                    batches.append(decode_body(body))
                    at = end
                    continue
            # Not a whole block: if another one begins later this one is damaged, else it is still growing.
            following = data.find(MAGIC, at + 1)
            if following < 0:
                break
            self.damaged += following - at
            at = following
        self.position += at
        return batches

    def close(self) -> None:
        """Let go of the file."""
        if self._file is not None:
            self._file.close()
