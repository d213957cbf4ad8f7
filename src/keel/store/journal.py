"""The journal: the newest rows as checksummed blocks, one ``write`` each.

A block is ``KEELROW`` and its version · body length (u32) · CRC-32 of the body (u32) · body. Little-endian.

In version 3 the body is the length of a description (u32), the description in JSON (``rows``, and of each column its
name, type and count of values), then the columns one after another; the payloads' lengths and bytes are the last two.
A column of a name that is not known is passed over. In version S (schema 2) it is the row count (u32), then the columns
of `COLUMNS` in order, then the payload lengths (u32 each), then the payload bytes.
"""

from __future__ import annotations

import json
import os
import struct
import zlib
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

import numpy as np

from keel.model.frames import COLUMNS, FrameBatch
from keel.store.columns import with_all_columns, worth_keeping

FAMILY = b"KEELROW"
MAGIC, MAGIC_2 = b"KEELROW3", b"KEELROWS"
HEADER = struct.Struct("<8sII")
_COUNT = struct.Struct("<I")
ROW_BYTES = sum(np.dtype(kind).itemsize for kind in COLUMNS.values()) + 4


def encode_block(batch: FrameBatch) -> bytes:
    """A batch as one block."""
    columns = worth_keeping(batch)
    columns |= {"lengths": batch.lengths.astype("<u4"), "data": batch.data[batch.offsets[0] : batch.offsets[-1]]}
    described = [(name, column.dtype.str, column.size) for name, column in columns.items()]
    head = json.dumps({"rows": len(batch), "columns": described}, separators=(",", ":")).encode()
    body = b"".join([_COUNT.pack(len(head)), head, *(column.tobytes() for column in columns.values())])
    return HEADER.pack(MAGIC, len(body), zlib.crc32(body)) + body


def decode_body(body: bytes) -> FrameBatch:
    """The batch of a block's body, whose checksum was right.

    Raises:
        ValueError: a later Keel wrote it, in a way that is not known.
    """
    (size,) = _COUNT.unpack_from(body)
    at = _COUNT.size + size
    columns: dict[str, Any] = {}
    for name, kind, count in json.loads(body[_COUNT.size : at])["columns"]:
        columns[name] = np.frombuffer(body, kind, count, at)
        at += columns[name].nbytes
    return with_all_columns(columns | {"offsets": _offsets(columns["lengths"])})


def _decode_body_2(body: bytes) -> FrameBatch:
    (count,) = _COUNT.unpack_from(body)
    at = _COUNT.size
    columns: dict[str, Any] = {}
    for name, kind in COLUMNS.items():
        columns[name] = np.frombuffer(body, kind, count, at)
        at += count * np.dtype(kind).itemsize
    offsets = _offsets(np.frombuffer(body, "<u4", count, at))
    data = np.frombuffer(body, np.uint8, int(offsets[-1]), at + 4 * count)
    return FrameBatch(**columns, offsets=offsets, data=data)


def _offsets(lengths: Any) -> Any:
    offsets = np.zeros(len(lengths) + 1, np.int64)
    np.cumsum(lengths, out=offsets[1:])
    return offsets


_DECODERS = {MAGIC: decode_body, MAGIC_2: _decode_body_2}


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
            batch, end = _block_at(data, at)
            if batch is not None:
                batches.append(batch)
                at = end
                continue
            # Not a whole block: if another one begins later this one is damaged, else it is still growing.
            following = data.find(FAMILY, at + 1)
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


def _block_at(data: bytes, at: int) -> tuple[FrameBatch | None, int]:
    """The batch of a whole block, and where it ends; None if there is no such block."""
    magic, length, checksum = HEADER.unpack_from(data, at)
    end = at + HEADER.size + length
    if magic not in _DECODERS or end > len(data):
        return None, at
    body = data[at + HEADER.size : end]
    if zlib.crc32(body) != checksum:
        return None, at
    try:
        return _DECODERS[magic](body), end
    except (ValueError, KeyError, TypeError):
        return None, at
