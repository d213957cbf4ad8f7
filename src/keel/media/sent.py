"""SENT: a sensor that says a few nibbles again and again, each by how long it waits for the next falling edge.

Source: SAE J2716 (2016), 5.2 (transmission), 5.2.4 (serial messages, here: the slow channel).
"""

from __future__ import annotations

from typing import Any

import numpy as np

from keel.media.header import HeaderField
from keel.media.medium import IdentForm, Medium
from keel.model.faults import Fault

FAST = IdentForm(21, "sent", "sensor", 48)
"""The one sensor of the line."""
SLOW = IdentForm(22, "sent-slow", "message", 8, role="slow channel", kind="slow", written=lambda ident: f"{ident:02X}")
"""What it says of itself, a bit or two in each message."""
REQUEST = IdentForm(41, "sent-request", "request", 48, role="request", kind="request")
"""That somebody pulled the wire low for an answer, and got none; of one that was answered the answer's header tells."""
HEADER_BYTES = 13
"""A header, by byte: 0 what is known, 1 how long the request took (4), 5 how long the answer (4), both in ns, 9 and 11
the two fast channels (2 each)."""
WAS_ASKED, WAS_ANSWERED, HAS_CHANNELS = 0, 1, 2
"""Bits of the first byte."""


def header_of(count: int, width: Any = None, delay: Any = None, channels: Any = None) -> Any:
    """Headers, shape (n, `HEADER_BYTES`).

    Args:
        count: How many.
        width: How long the request took in ns, shape (n,); 0 where there was none.
        delay: How long the answer was waited for in ns, shape (n,); 0 where there was none.
        channels: What the two fast channels say, shape (n, 2).
    """
    header = np.zeros((count, HEADER_BYTES), np.uint8)
    if width is not None:
        header[:, 0] |= ((width > 0) << WAS_ASKED | (delay > 0) << WAS_ANSWERED).astype(np.uint8)
        header[:, 1:5] = np.asarray(width, "<u4").view(np.uint8).reshape(-1, 4)
        header[:, 5:9] = np.asarray(delay, "<u4").view(np.uint8).reshape(-1, 4)
    if channels is not None:
        header[:, 0] |= 1 << HAS_CHANNELS
        header[:, 9:13] = np.asarray(channels, "<u2").view(np.uint8).reshape(-1, 4)
    return header


_FIELDS = (
    HeaderField("request", "how long the wire was pulled low for it", 8, 32, unit="ns", when=(WAS_ASKED, 1, 1)),
    HeaderField("delay", "from the request to the answer", 40, 32, unit="ns", when=(WAS_ANSWERED, 1, 1)),
    HeaderField("channel_1", "fast channel 1", 72, 16, when=(HAS_CHANNELS, 1, 1)),
    HeaderField("channel_2", "fast channel 2, or the counter", 88, 16, when=(HAS_CHANNELS, 1, 1)),
)


def _kind(form: int) -> str:
    return {SLOW.number: "slow channel", REQUEST.number: "request"}.get(form, "SENT")


SENT = Medium(
    "sent",
    "SENT",
    "ticks/s",
    (FAST, SLOW, REQUEST),
    kind=lambda frame: _kind(int(frame.form[0])),
    size=lambda frame: f"{int(frame.lengths[0])} bytes",
    faults={
        Fault.CRC: "the checksum nibble does not fit the data",
        Fault.CALIBRATION: "the calibration pulse differs from the one before by more than a clock may drift, or is "
        "missing",
        Fault.LENGTH: "its pulses are none that nibbles have, or too few or too many: the line was disturbed",
        Fault.NO_RESPONSE: "asked, no answer: the wire was pulled low, and the sensor sent nothing",
    },
    fields=_FIELDS,
    header_bytes=HEADER_BYTES,
    ident_cells=4,
)
