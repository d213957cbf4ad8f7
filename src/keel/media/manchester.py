"""Lines in Manchester code: every bit has an edge in its middle; what the bits say is not known.

Source: IEEE 802.3-2018, 7.3.1.1 (the code, and which edge is which bit).
"""

from __future__ import annotations

from keel.media.medium import IdentForm, Medium
from keel.model.faults import Fault

BURST = IdentForm(26, "manchester", "talker", 48)

MANCHESTER = Medium(
    "manchester",
    "Manchester",
    "bit/s",
    (BURST,),
    kind=lambda _: "Manchester",
    size=lambda frame: f"{int(frame.lengths[0])} bytes",
    faults={
        Fault.SYNC: "there was no sync where others have one",
        Fault.LENGTH: "it ends within a byte",
    },
)
