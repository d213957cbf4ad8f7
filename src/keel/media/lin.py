"""LIN: one wire, one commander that sends headers, responders that answer to their identifiers.

Source: ISO 17987-3:2016 (LIN 2.x), 5.2.2 (frames).
"""

from __future__ import annotations

from keel.media.medium import IdentForm, Medium
from keel.model.faults import Fault

PROTECTED = IdentForm(20, "lin", "6-bit identifier", 6, written=lambda ident: f"{ident:02X}")

LIN = Medium(
    "lin",
    "LIN",
    "bit/s",
    (PROTECTED,),
    kind=lambda _: "LIN",
    size=lambda frame: f"{int(frame.lengths[0])} bytes",
    faults={
        Fault.CHECKSUM: "the checksum fits neither the data alone nor data and identifier",
        Fault.PARITY: "the parity bits do not fit the identifier",
        Fault.NO_RESPONSE: "nobody answered the header",
        Fault.SYNC: "no sync byte followed the break",
    },
    spoils={Fault.PARITY: "identifier", Fault.SYNC: "identifier"},
    ident_cells=4,
)
