"""Memory cards: what host and card say on the command line.

Source: SD Specifications, Part 1, Physical Layer Simplified Specification 9.00, 4.7 (commands), 4.9 (responses).
"""

from __future__ import annotations

from keel.media.header import HeaderField
from keel.media.medium import IdentForm, Medium
from keel.model.faults import Fault


def _read_index(text: str) -> tuple[int, int] | None:
    """An index as the trade says it, in decimal: ``33``."""
    is_one = text.isascii() and text.isdecimal() and str(int(text)) == text and int(text) <= 0x3F
    return (int(text), 0x3F) if is_one else None


def _index(number: int, word: str, role: str) -> IdentForm:
    return IdentForm(number, word, "index", 6, role=role, kind=role, written=str, read=_read_index)


COMMAND = _index(33, "card-command", "command")
RESPONSE = _index(34, "card-response", "response")
"""By the index in its token: that of the command, or 63."""
HEADER_BYTES = 4

CARD = Medium(
    "card",
    "memory card",
    "Hz",
    (COMMAND, RESPONSE),
    kind=lambda frame: "card command" if int(frame.form[0]) == COMMAND.number else "card response",
    size=lambda frame: f"{int(frame.lengths[0])} bytes",
    faults={
        Fault.CRC: "the checksum of seven bits does not fit",
        Fault.END_BIT: "it does not end in a 1",
    },
    spoils={Fault.END_BIT: "nothing"},
    fields=(HeaderField("clock", "frequency of the clock meanwhile", 0, 32, unit="Hz"),),
    header_bytes=HEADER_BYTES,
    ident_cells=11,
)
