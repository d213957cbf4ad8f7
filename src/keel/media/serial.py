"""Serial lines: bytes with start and stop bits, as lines of text or as they come."""

from __future__ import annotations

from keel.media.medium import IdentForm, Medium
from keel.model.faults import Fault
from keel.model.identity import Form

NOBODY = 0
"""The identifier of what says of no talker that it is from them."""
TALKER = IdentForm(Form.SERIAL, "serial", "talker", 48)
"""Whoever is heard; of a line that is heard on both sides, the device."""
HOST = IdentForm(19, "serial-host", "talker", 48, role="from the host")
BITS_A_BYTE = 10
"""A start bit, eight data bits, a stop bit: what is usual where nothing else is said."""
USUAL_RATE = 9_600

SERIAL = Medium(
    "serial",
    "serial",
    "bit/s",
    (TALKER, HOST),
    kind=lambda _: "serial",
    size=lambda frame: f"{int(frame.lengths[0])} bytes",
    faults={
        Fault.PARITY: "the parity bit does not fit the data bits",
        Fault.FRAMING: "there was no stop bit where one had to be",
        Fault.BREAK: "the line stood low for longer than a byte takes",
        Fault.TRUNCATED: "only the first bytes were kept",
    },
)
