"""Waveform files: whatever form they are in, the channels they hold."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from keel.errors import InputError, UnknownFormat
from keel.formats import vcd, wav, wave_text
from keel.model.waveform import Channel

HEAD_BYTES = 1 << 16

READERS: list[tuple[str, Callable[[bytes], str | None], Callable[[Path, tuple[str, ...]], list[Channel]]]] = [
    ("value change dump", vcd.recognises, lambda path, bits: vcd.read_vcd(path, bits_of=bits).channels),
    ("WAV", wav.recognises, lambda path, _: wav.read_wav(path)),
    ("delimited text", wave_text.recognises, lambda path, _: wave_text.read_wave_text(path)),
]
"""Name, what recognises it, what reads it (bits of vectors are taken by name)."""


def read_waveforms(path: Path, bits_of: tuple[str, ...] = ()) -> tuple[str, list[Channel]]:
    """What a file is, and its channels.

    Raises:
        InputError: it cannot be read.
        UnknownFormat: it holds no waveform that is known.
    """
    try:
        with path.open("rb") as file:
            head = file.read(HEAD_BYTES)
    except OSError as error:
        raise InputError(str(path), f"cannot be read ({error.strerror})", "a waveform") from None
    for name, recognises, read in READERS:
        if recognises(head):
            return name, read(path, bits_of)
    known = " or ".join(name for name, _, _ in READERS)
    raise UnknownFormat(str(path), "no form of waveform recognises it", known)
