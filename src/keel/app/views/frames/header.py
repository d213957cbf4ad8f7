"""The header of a CAN frame as bits, with what each stands for under it.

Source: ISO 11898-1:2015, 10.4.2 (data and remote frames), figures 10 to 13.
"""

from __future__ import annotations

from keel.app.paint.canvas import Line
from keel.app.paint.palette import Palette
from keel.model.frames import Flag, FrameBatch
from keel.model.identity import Form

MEANINGS = {
    "RTR": ("data", "remote"),
    "IDE": ("11-bit", "29-bit"),
    "FDF": ("classic", "FD"),
    "BRS": ("one rate", "switched"),
    "ESI": ("error active", "error passive"),
}


def header_fields(frame: FrameBatch) -> list[tuple[str, str]]:
    """The header's fields in the order they are sent: name and bits; empty if the frame has no header known."""
    form, flags = int(frame.form[0]), int(frame.flags[0])
    if form == Form.NONE:
        return []
    ident, dlc = int(frame.ident[0]), int(frame.dlc[0]) & 15
    fd, remote = bool(flags & Flag.FD), "1" if flags & Flag.REMOTE else "0"
    if form == Form.EXTENDED:
        fields = [("id", f"{ident >> 18:011b}"), ("SRR", "1"), ("IDE", "1"), ("id", f"{ident & 0x3FFFF:018b}")]
        fields += [("RRS", "0"), ("FDF", "1")] if fd else [("RTR", remote), ("FDF", "0")]
    else:
        fields = [("id", f"{ident:011b}"), ("RRS" if fd else "RTR", "0" if fd else remote), ("IDE", "0")]
        fields.append(("FDF", "1" if fd else "0"))
    if fd:
        fields += [("res", "0"), ("BRS", "1" if flags & Flag.BRS else "0"), ("ESI", "1" if flags & Flag.ESI else "0")]
    elif form == Form.EXTENDED:
        fields.append(("r0", "0"))
    return [*fields, ("DLC", f"{dlc:04b}")]


def header_bits(palette: Palette, width: int, frame: FrameBatch) -> list[Line]:
    """The header's bits, names and meanings, broken into as many rows as it takes."""
    rows: list[tuple[Line, Line]] = []
    at = width + 1
    for name, bits in header_fields(frame):
        meaning = MEANINGS[name][int(bits)] if name in MEANINGS else ""
        label = f"{name} {meaning}".strip()
        room = max(len(bits), len(label)) + 2
        if at + room - 2 > width:
            rows.append((Line(width, palette.style("text")), Line(width, palette.style("text"))))
            at = 0
        upper, lower = rows[-1]
        upper.put(at, bits, palette.style("text" if name == "id" else "sea"))
        lower.put(at, label, palette.style("dim"))
        at += room
    return [line for pair in rows for line in pair]
