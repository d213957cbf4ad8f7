"""SENT: a sensor that says a few nibbles again and again, each by how long it waits for the next falling edge.

Source: SAE J2716 (2016), 5.2 (transmission), 5.2.4 (serial messages, here: the slow channel).
"""

from __future__ import annotations

from keel.media.medium import IdentForm, Medium
from keel.model.faults import Fault

FAST = IdentForm(21, "sent", "sensor", 48)
"""The one sensor of the line."""
SLOW = IdentForm(22, "sent-slow", "message", 8, role="slow channel", kind="slow", written=lambda ident: f"{ident:02X}")
"""What it says of itself, a bit or two in each message."""

SENT = Medium(
    "sent",
    "SENT",
    "ticks/s",
    (FAST, SLOW),
    kind=lambda frame: "slow channel" if int(frame.form[0]) == SLOW.number else "SENT",
    size=lambda frame: f"{int(frame.lengths[0])} bytes",
    faults={
        Fault.CRC: "the checksum nibble does not fit the data",
        Fault.CALIBRATION: "the calibration pulse differs from the one before by more than a clock may drift",
    },
    ident_cells=4,
)
