"""The single-wire diagnostics line (K-line): messages with or without a header, and what wakes the line up.

Source: ISO 14230-2:2016, 5.2 (message structure), 5.4 (initialisation); ISO 9141-2:1994, 6, 7.
"""

from __future__ import annotations

from keel.media.medium import IdentForm, Medium
from keel.model.faults import Fault

ADDRESSED = IdentForm(23, "kline", "target and source", 16, written=lambda ident: f"{ident:04X}")
PLAIN = IdentForm(24, "kline-byte", "first byte", 8, written=lambda ident: f"{ident:02X}")
"""A message without addresses, by its format byte; of an unknown line, by its first byte."""
INIT = IdentForm(25, "kline-init", "address", 8, role="initialisation", kind="init", written=PLAIN.written)
"""What wakes the line up; 00 where that has no address."""

KLINE = Medium(
    "kline",
    "K-line",
    "bit/s",
    (ADDRESSED, PLAIN, INIT),
    kind=lambda frame: "initialisation" if int(frame.form[0]) == INIT.number else "K-line",
    size=lambda frame: f"{int(frame.lengths[0])} bytes",
    faults={
        Fault.CHECKSUM: "the checksum does not fit the bytes before it",
        Fault.FRAMING: "there was no stop bit where one had to be",
        Fault.TIMING: "it came too soon or too late after what it answers",
    },
    spoils={Fault.TIMING: "nothing"},
    ident_cells=6,
)
