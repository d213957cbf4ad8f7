"""WAV files as waveforms: full scale is 1 V, the first sample is at 0 ns, channels are called by their numbers.

Source: Multimedia Programming Interface and Data Specifications 1.0 (RIFF, WAVE).
"""

from __future__ import annotations

import struct
from pathlib import Path
from typing import Any

import numpy as np

from keel.errors import InputError
from keel.model.waveform import Analog, Channel

PCM, FLOAT, EXTENSIBLE = 1, 3, 0xFFFE


def recognises(head: bytes) -> str | None:
    """Why it is one, if it is."""
    return "begins with RIFF and WAVE" if head[:4] == b"RIFF" and head[8:12] == b"WAVE" else None


def read_wav(path: Path) -> list[Channel]:
    """The channels of a file.

    Raises:
        InputError: it cannot be read, or is of a kind that is not.
    """
    try:
        data = path.read_bytes()
    except OSError as error:
        raise InputError(str(path), f"cannot be read ({error.strerror})", "a WAV file") from None
    return parse_wav(data, str(path))


def parse_wav(data: bytes, where: str = "the file") -> list[Channel]:
    """The channels of a file's bytes.

    Raises:
        InputError: it is none, or of a kind that is not read.
    """
    if recognises(data[:12]) is None:
        raise InputError(where, "is no WAV file", "RIFF and WAVE")
    at, how, sound, notes = 12, None, None, []
    while at + 8 <= len(data):
        name, size = data[at : at + 4], int.from_bytes(data[at + 4 : at + 8], "little")
        body = data[at + 8 : at + 8 + size]
        if name == b"fmt " and len(body) >= 16:
            how = struct.unpack("<HHIIHH", body[:16])
            if how[0] == EXTENSIBLE and len(body) >= 26:
                how = (int.from_bytes(body[24:26], "little"), *how[1:])
        elif name == b"data":
            sound = body
            if len(body) < size:
                notes.append("the file ends within its samples")
            break
        at += 8 + size + size % 2
    if how is None or sound is None:
        raise InputError(where, "has no samples", "a format and data")
    kind, count, rate, _, _, bits = how
    if count < 1 or rate < 1:
        raise InputError(where, f"has {count} channels at {rate} samples a second", "at least one of each")
    samples = _samples(sound, kind, bits, where)
    whole = samples[: len(samples) // count * count].reshape(-1, count)
    return [
        Channel(str(n + 1), n + 1, Analog(0, 1e9 / rate, np.ascontiguousarray(whole[:, n])), (), tuple(notes))
        for n in range(count)
    ]


def _samples(data: bytes, kind: int, bits: int, where: str) -> Any:
    """Samples as volts."""
    if kind == PCM and bits == 8:
        return (np.frombuffer(data, np.uint8).astype(np.float32) - 128) / 128
    if kind == PCM and bits == 16:
        return np.frombuffer(data[: len(data) // 2 * 2], "<i2").astype(np.float32) / 32_768
    if kind == PCM and bits == 24:
        parts = np.frombuffer(data[: len(data) // 3 * 3], np.uint8).reshape(-1, 3).astype(np.int32)
        value = parts[:, 0] | parts[:, 1] << 8 | parts[:, 2] << 16
        return ((value ^ 0x800000) - 0x800000).astype(np.float32) / 8_388_608
    if kind == PCM and bits == 32:
        return (np.frombuffer(data[: len(data) // 4 * 4], "<i4") / 2_147_483_648).astype(np.float32)
    if kind == FLOAT and bits in (32, 64):
        size = bits // 8
        return np.frombuffer(data[: len(data) // size * size], f"<f{size}").astype(np.float32)
    raise InputError(where, f"has samples of kind {kind} with {bits} bits", "PCM of 8, 16, 24 or 32 bits, or float")
