"""WAV files as waveforms: full scale is 1 V, the first sample is at 0 ns, channels are called by their numbers.

Source: Multimedia Programming Interface and Data Specifications 1.0 (RIFF, WAVE).
"""

from __future__ import annotations

import struct
from pathlib import Path
from typing import Any

import numpy as np

from keel.errors import InputError
from keel.model.frames import Bytes
from keel.model.waveform import Analog, Channel

NAME = "WAV"
PCM, FLOAT, EXTENSIBLE = 1, 3, 0xFFFE
SAMPLES = {(PCM, 8), (PCM, 16), (PCM, 24), (PCM, 32), (FLOAT, 32), (FLOAT, 64)}


def recognises(head: bytes) -> str | None:
    """Why it is one, if it is."""
    return "begins with RIFF and WAVE" if head[:4] == b"RIFF" and head[8:12] == b"WAVE" else None


def read_wav(path: Path) -> list[Channel]:
    """The channels of a file.

    Raises:
        InputError: it cannot be read, or is of a kind that is not.
    """
    try:
        data = np.memmap(path, np.uint8, "r") if path.stat().st_size else np.zeros(0, np.uint8)
    except OSError as error:
        raise InputError(str(path), f"cannot be read ({error.strerror})", "a WAV file") from None
    return parse_wav(data, str(path))


def parse_wav(data: Bytes, where: str = "the file") -> list[Channel]:
    """The channels of a file's bytes; samples stay where they are, as far as they can.

    Raises:
        InputError: it is none, or of a kind that is not read.
    """
    if recognises(data[:12].tobytes()) is None:
        raise InputError(where, "is no WAV file", "RIFF and WAVE")
    at, how, sound, notes = 12, None, None, []
    while at + 8 <= len(data):
        name, size = data[at : at + 4].tobytes(), int.from_bytes(data[at + 4 : at + 8].tobytes(), "little")
        body = data[at + 8 : at + 8 + size]
        if name == b"fmt " and len(body) >= 16:
            how = struct.unpack("<HHIIHH", body[:16].tobytes())
            if how[0] == EXTENSIBLE and len(body) >= 26:
                how = (int.from_bytes(body[24:26].tobytes(), "little"), *how[1:])
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
    samples, scale = _samples(sound, kind, bits, where)
    whole = samples[: len(samples) // count * count].reshape(-1, count)
    waves = [Analog(0, 1e9 / rate, whole[:, n], scale) for n in range(count)]
    return [Channel(str(n), n, wave, (), tuple(notes)) for n, wave in enumerate(waves, 1)]


def _samples(data: Bytes, kind: int, bits: int, where: str) -> tuple[Any, float]:
    """Samples, and volts of a sample of 1."""
    if (kind, bits) not in SAMPLES:
        raise InputError(where, f"has samples of kind {kind} with {bits} bits", "PCM of 8, 16, 24 or 32 bits, or float")
    size = bits // 8
    plain = data[: len(data) // size * size]
    if bits == 8:
        # The only kind without a sign: its middle is 128.
        return (plain ^ 0x80).view(np.int8), 1 / 128
    if bits == 24:
        parts = plain.reshape(-1, 3).astype(np.int32)
        value = parts[:, 0] | parts[:, 1] << 8 | parts[:, 2] << 16
        return (value ^ 0x800000) - 0x800000, 1 / (1 << 23)
    samples = np.require(plain.view(f"<{'f' if kind == FLOAT else 'i'}{size}"), requirements="A")
    if kind == PCM:
        return samples, 1 / (1 << (bits - 1))
    # What is no number would be none of all that is measured.
    return (samples if np.isfinite(samples).all() else np.nan_to_num(samples, posinf=0.0, neginf=0.0)), 1.0
