"""CAN and CAN FD.

Source: ISO 11898-1:2015, 10.4.2 (data and remote frames), figures 10 to 13.
"""

from __future__ import annotations

from collections.abc import Mapping

from keel.media.medium import HeaderBits, IdentForm, Medium
from keel.model.faults import Fault
from keel.model.frames import Flag, FrameBatch
from keel.model.identity import NO_IDENT, Form


def parameter_group(ident: int) -> int:
    """The parameter group number of a 29-bit identifier.

    Of a group that is sent to one address (PDU format below 240) the destination is no part.

    Source: SAE J1939-21, 5.2.
    """
    group = ident >> 8 & 0x3FFFF
    return group & 0x3FF00 if group >> 8 & 0xFF < 240 else group


EXTENDED_ID_MAX = 0x1FFF_FFFF
BASE = IdentForm(Form.BASE, "base", "11-bit identifier", 11, digits=3)
EXTENDED = IdentForm(Form.EXTENDED, "extended", "29-bit identifier", 29, digits=8, group=parameter_group)
FAULTS = {
    Fault.CRC: "the checksum that was sent does not fit the bits that came",
    Fault.STUFF: "six equal bits in a row, where the sixth had to differ",
    Fault.FORM: "a bit with a fixed level had the other one",
    Fault.ACK: "no other node acknowledged the frame: the sender is alone on the bus, all others only listen, or its "
    "frame did not reach them",
    Fault.ERROR_FLAG: "a node that saw an error says so with six dominant bits: it follows from the fault before it",
    Fault.BIT: "the sender read back another level than it sent",
    Fault.OVERLOAD: "a node asked for a pause",
    Fault.BUS_OFF: "the controller left the bus after too many errors",
    Fault.WARNING: "an error counter passed the warning level",
    Fault.PASSIVE: "the controller may no longer signal errors actively",
    Fault.ARBITRATION: "the sender lost arbitration",
    Fault.CONTROLLER: "the controller reported a problem",
    Fault.TRANSCEIVER: "the transceiver reported a problem",
    Fault.RESTARTED: "the controller was started again",
    Fault.OTHER: "the capture names no class that is known",
}
MEANINGS = {
    "RTR": ("data", "remote"),
    "IDE": ("11-bit", "29-bit"),
    "FDF": ("classic", "FD"),
    "BRS": ("one rate", "switched"),
    "ESI": ("error active", "error passive"),
}


def _kind(frame: FrameBatch) -> str:
    flags = int(frame.flags[0])
    kind = "CAN FD" if flags & Flag.FD else "CAN"
    if flags & Flag.FD:
        kind += ", rate switched" if flags & Flag.BRS else ", one rate"
    if flags & Flag.ESI:
        kind += ", sender error passive"
    if flags & Flag.REMOTE:
        kind += " remote"
    return f"{kind}, error frame" if flags & Flag.ERROR else kind


def _header(frame: FrameBatch) -> list[HeaderBits]:
    form, flags = int(frame.form[0]), int(frame.flags[0])
    if form == NO_IDENT:
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
    fields.append(("DLC", f"{dlc:04b}"))
    return [
        HeaderBits(name, bits, MEANINGS[name][int(bits)] if name in MEANINGS else "", name == "id")
        for name, bits in fields
    ]


def _says(form: int, flags: int, dlc: int) -> Mapping[str, bool | int]:
    return {
        "ext": form == Form.EXTENDED,
        "fd": bool(flags & Flag.FD),
        "brs": bool(flags & Flag.BRS),
        "esi": bool(flags & Flag.ESI),
        "dlc": dlc,
    }


CAN = Medium(
    "can",
    "CAN",
    "bit/s",
    (BASE, EXTENDED),
    rates=(10_000, 20_000, 50_000, 83_333, 100_000, 125_000, 250_000, 500_000, 800_000, 1_000_000),
    rest_bits=3,
    kind=_kind,
    size=lambda frame: f"DLC {int(frame.dlc[0])}",
    header=_header,
    says=_says,
    faults=FAULTS,
    spoils={Fault.ACK: "nothing"},
)
