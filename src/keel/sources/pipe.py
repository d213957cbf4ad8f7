"""Standard input, or a named pipe, as a source."""

from __future__ import annotations

import sys

from keel.formats.reader import Format
from keel.sources.kind import Given, Kind, Parameter
from keel.sources.source import Source
from keel.sources.stream import ARRIVING, FifoSource, StreamSource

NOT_NAMED = "auto"


def read_as(given: Given) -> Format | None:
    """What a stream is read as; None to tell by what comes."""
    from keel.formats.registry import format_named

    word = given.values["as"]
    if word == "bytes":
        return ARRIVING
    return None if word == NOT_NAMED else format_named(word, None)


AS = Parameter(
    "as",
    "what comes: a capture or log, told by itself; text of a serial line, each line after its time; its bytes",
    NOT_NAMED,
    (NOT_NAMED, "serial", "bytes"),
)


def _open(given: Given) -> Source:
    if given.where:
        return FifoSource(given.where, read_as(given))
    return StreamSource(sys.stdin.fileno(), read_as=read_as(given))


KIND = Kind(
    "pipe",
    "standard input, or a named pipe",
    _open,
    where="path of a named pipe",
    parameters=(AS,),
    example="pipe, or pipe:/tmp/feed",
)
