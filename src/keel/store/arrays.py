"""Arrays in one small file with a checksum: how indexes lie on disk.

``KEELARRS`` · CRC-32 of the rest (u32) · length of the description (u32) · the description (JSON: ``meta`` and
for each array its name, type, shape and place) · the arrays, each at a multiple of 8 bytes.
"""

from __future__ import annotations

import json
import os
import struct
import zlib
from pathlib import Path
from typing import Any

import numpy as np

from keel.errors import RecordingError

MAGIC = b"KEELARRS"
_HEADER = struct.Struct("<8sII")


def save_arrays(path: Path, meta: dict[str, Any], arrays: dict[str, Any]) -> int:
    """Write the file as a whole or not at all; returns its size."""
    described, parts, at = [], [], 0
    for name, array in arrays.items():
        data = np.ascontiguousarray(array)
        described.append([name, data.dtype.str, list(data.shape), at])
        parts.append(data.tobytes() + bytes(-data.nbytes % 8))
        at += len(parts[-1])
    text = json.dumps({"meta": meta, "arrays": described}, separators=(",", ":")).encode()
    text += b" " * (-len(text) % 8)
    body = text + b"".join(parts)
    draft = path.with_name(path.name + ".draft")
    with draft.open("wb") as file:
        file.write(_HEADER.pack(MAGIC, zlib.crc32(body), len(text)) + body)
        file.flush()
        os.fsync(file.fileno())
    draft.replace(path)
    return _HEADER.size + len(body)


def load_arrays(path: Path) -> tuple[dict[str, Any], dict[str, Any]]:
    """Description and arrays, read-only.

    Raises:
        RecordingError: the file is missing, cut or damaged.
    """
    try:
        content = path.read_bytes()
        magic, checksum, size = _HEADER.unpack_from(content)
    except (OSError, struct.error) as error:
        raise RecordingError(str(path), f"cannot be read ({error})") from None
    body = memoryview(content)[_HEADER.size :]
    if magic != MAGIC or zlib.crc32(body) != checksum:
        raise RecordingError(str(path), "its checksum is wrong")
    described = json.loads(bytes(body[:size]))
    arrays = {}
    for name, kind, shape, at in described["arrays"]:
        count = int(np.prod(shape, dtype=np.int64))
        arrays[name] = np.frombuffer(body, kind, count, size + at).reshape(shape)
    return described["meta"], arrays
