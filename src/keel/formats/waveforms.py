"""Waveform files: whatever form they are in, the channels they hold."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from keel.errors import InputError, UnknownFormat
from keel.formats import vcd, wav, wave_text
from keel.formats.wave_taken import AS_FOUND, Taken, scaled
from keel.model.waveform import Channel

HEAD_BYTES = 1 << 16

Progress = Callable[[int, int], None]
Read = Callable[[Path, tuple[str, ...], Progress, Taken], list[Channel]]
READERS: list[tuple[str, Callable[[bytes], str | None], Read]] = [
    ("value change dump", vcd.recognises, lambda path, bits, progress, _: vcd.read_vcd(path, progress, bits).channels),
    (wav.NAME, wav.recognises, lambda path, *_: wav.read_wav(path)),
    (
        wave_text.NAME,
        wave_text.recognises,
        lambda path, _, progress, taken: wave_text.read_wave_text(path, progress, taken),
    ),
]
"""Name, what recognises it, what reads it (bits of vectors are taken by name)."""


def read_waveforms(
    path: Path, bits_of: tuple[str, ...] = (), progress: Progress = lambda *_: None, taken: Taken = AS_FOUND
) -> tuple[str, list[Channel]]:
    """What a file is, and its channels.

    Args:
        path: The file.
        bits_of: Bits of vectors that are taken besides, as ``name[3]``.
        progress: Called with bytes done and in all; what it raises gives it up.
        taken: What a person says of its numbers.

    Raises:
        InputError: it cannot be read.
        UnknownFormat: it holds no waveform that is known.
    """
    name, read = _reader(path)
    return name, scaled(read(path, bits_of, progress, taken), taken)


def kind_of(path: Path) -> str:
    """What a file is.

    Raises:
        InputError: it cannot be read.
        UnknownFormat: it holds no waveform that is known.
    """
    return _reader(path)[0]


def _reader(path: Path) -> tuple[str, Read]:
    try:
        with path.open("rb") as file:
            head = file.read(HEAD_BYTES)
    except OSError as error:
        raise InputError(str(path), f"cannot be read ({error.strerror})", "a waveform") from None
    for name, recognises, read in READERS:
        if recognises(head):
            return name, read
    known = " or ".join(name for name, _, _ in READERS)
    raise UnknownFormat(str(path), "no form of waveform recognises it", known)
