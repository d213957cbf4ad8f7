"""The kinds of sources there are. To add one, write its file and name it here."""

from __future__ import annotations

from keel.errors import InputError
from keel.sources import bench, can_adapter, pipe, serial_port, socketcan, tcp
from keel.sources.kind import Given, Kind, parse_spec
from keel.sources.source import Source

KINDS: dict[str, Kind] = {
    kind.word: kind for kind in (bench.KIND, socketcan.KIND, can_adapter.KIND, serial_port.KIND, pipe.KIND, tcp.KIND)
}


def given_source(text: str) -> Given:
    """What a person says of a source, checked.

    Raises:
        InputError: there is no such kind, or it cannot be said so.
    """
    word, where, said = parse_spec(text)
    if word not in KINDS:
        raise InputError(f"--from {word}", "no such source", ", ".join(KINDS))
    return KINDS[word].given(where, said)


def open_given(given: Given) -> Source:
    """The source that is meant.

    Raises:
        InputError, SourceGone: it is not there, or cannot be had.
    """
    return KINDS[given.kind].open(given)


def open_source(text: str) -> Source:
    """A source by what a person says of it, as ``bench`` or ``serial:/dev/ttyUSB0 rate=9600``.

    Raises:
        InputError, SourceGone: there is none, or it cannot be had.
    """
    return open_given(given_source(text))
