"""Lines whose code nobody knows: messages between silences, by their pulses."""

from __future__ import annotations

from keel.media.medium import IdentForm, Medium

UNKNOWN = IdentForm(40, "bursts", "message", 48)

BURSTS = Medium(
    "bursts",
    "bursts",
    "bit/s",
    (UNKNOWN,),
    kind=lambda _: "bursts",
    size=lambda frame: f"{int(frame.lengths[0])} bytes",
)
