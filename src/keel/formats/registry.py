"""The formats Keel reads. To add one, write its file and name it here."""

from __future__ import annotations

from pathlib import Path

from keel.errors import InputError, UnknownFormat
from keel.formats import delimited, jsonlines, pcap, pcapng, serial_text, tables, textlog
from keel.formats.layout import missing_in
from keel.formats.reader import Format

FORMATS: list[Format] = [
    pcapng.FORMAT, pcap.FORMAT, tables.FORMAT, jsonlines.FORMAT, textlog.FORMAT, delimited.FORMAT,
]  # fmt: skip
LOOK_BYTES = 1 << 16


def format_named(word: str, rate: int | None) -> Format:
    """A format that no file can be told by its content to be of.

    Args:
        word: Its name, as `NAMED` has it.
        rate: Bit/s, for bytes that have no times; None if it is not known.
    """
    return serial_text.TEXT if word == "serial" else serial_text.bytes_format(rate)


NAMED = {"serial": "lines of text, each after its time", "bytes": "bytes of a serial line, without times"}
"""Formats that have to be named, and what they are."""


def recognise(path: Path) -> tuple[Format, str]:
    """The format of a file, by its content, and why.

    Raises:
        InputError: the file cannot be read or is empty.
        UnknownFormat: nothing recognises it.
    """
    try:
        with path.open("rb") as file:
            head = file.read(LOOK_BYTES)
    except IsADirectoryError:
        raise InputError(str(path), "is a folder", "a capture or log file") from None
    except OSError as error:
        raise InputError(str(path), f"cannot be read ({error.strerror})") from None
    if not head:
        raise InputError(str(path), "the file is empty", "frames")
    for known in FORMATS:
        why = known.recognises(head)
        if why:
            return known, why
    names = " or ".join(f.name for f in FORMATS)
    why = missing_in(head)
    raise UnknownFormat(str(path), f"no format recognises its content{why and f'; {why}'}", names)
