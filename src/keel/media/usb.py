"""USB: requests to endpoints, as a host's driver submits them and gets them back.

Source: Universal Serial Bus Specification 2.0, 5.5 to 5.8 (transfers), 9.3 (setup data).
"""

from __future__ import annotations

import re
from typing import Any

from keel.media.header import HeaderField, first_row
from keel.media.medium import HeaderBits, IdentForm, Medium
from keel.model.faults import Fault
from keel.model.frames import FrameBatch

HEADER_BYTES = 56
"""A header, by byte: 0 request tag (8), 8 event, 9 transfer, 10 endpoint with its direction, 11 device, 12 bus (2),
14 whether there is setup data, 15 link type, 16 status (4), 20 length (4), 24 setup or isochronous counts (8),
32 interval (4), 36 start frame (4), 40 flags (4), 44 time since the submission in ns (6), 50 what is known, 51 whether
there is data, 52 how much the packet had (4)."""
KNOWS_SETUP, KNOWS_AFTER = 1, 2
CONTROL = 2
EVENTS = {0: "submit", 1: "complete", 2: "error"}
TRANSFERS = {0: "isochronous", 1: "interrupt", 2: "control", 3: "bulk"}
STATUSES = {
    0: "ok", -115: "in-progress", -32: "stall", -110: "timeout", -104: "unlinked", -2: "cancelled", -108: "gone",
    -19: "no-device", -71: "protocol", -84: "crc", -75: "overflow", -121: "short", -70: "too-slow", -63: "too-fast",
    -62: "no-response", -18: "partial",
}  # fmt: skip
"""What a status says; the numbers are the negated error numbers of POSIX systems, as the capture has them."""


def pack_endpoint(bus: Any, device: Any, endpoint: Any) -> Any:
    """An endpoint's identifier: bus (16 bits), device (8), endpoint (8); of numbers, or of columns of them."""
    return bus << 16 | device << 8 | endpoint


def _endpoint_parts(ident: int) -> tuple[int, int, int]:
    return ident >> 16, ident >> 8 & 0xFF, ident & 0xFF


def _writer(way: str) -> tuple[object, object]:
    def write(ident: int) -> str:
        bus, device, endpoint = _endpoint_parts(ident)
        return f"{bus}.{device}.{endpoint} {way}"

    def read(text: str) -> tuple[int, int] | None:
        found = re.fullmatch(r"(\d{1,5})\.(\d{1,3})(?:\.(\d{1,3}))?(?:\s+(in|out))?", text.strip().lower())
        if found is None or found[4] not in (None, way):
            return None
        bus, device, endpoint = int(found[1]), int(found[2]), int(found[3] or 0)
        if bus > 0xFFFF or device > 0xFF or endpoint > 0xFF:
            return None
        return pack_endpoint(bus, device, endpoint), 0xFFFF_FFFF if found[3] else 0xFFFF_FF00

    return write, read


def _endpoint(number: int, word: str, way: str, role: str) -> IdentForm:
    write, read = _writer(way)
    return IdentForm(number, word, "endpoint", 32, role=role, written=write, read=read)  # type: ignore[arg-type]


OUT = _endpoint(5, "usb-out", "out", "submitted")
IN = _endpoint(16, "usb-in", "in", "submitted")
OUT_DONE = _endpoint(17, "usb-out-done", "out", "completed")
IN_DONE = _endpoint(18, "usb-in-done", "in", "completed")

FIELDS = (
    HeaderField("event", "event", 8 * 8, 8, texts=EVENTS, shown="word"),
    HeaderField("transfer", "kind of transfer", 9 * 8, 8, texts=TRANSFERS, shown="word"),
    HeaderField("bus", "bus", 12 * 8, 16),
    HeaderField("device", "device", 11 * 8, 8),
    HeaderField("endpoint", "endpoint", 10 * 8, 7),
    HeaderField("status", "status", 16 * 8, 32, signed=True, texts=STATUSES, shown="word and number"),
    HeaderField("length", "length asked for, or moved", 20 * 8, 32, unit="bytes"),
    HeaderField("setup", "setup data", 24 * 8, 64, shown="bytes", when=(50 * 8, 1, 1), in_bits=True),
    HeaderField("tag", "request tag", 0, 64, shown="hex"),
    HeaderField("interval", "polling interval", 32 * 8, 32, signed=True),
    HeaderField("flags", "flags of the request", 40 * 8, 32, shown="hex"),
    HeaderField("after", "time since it was submitted", 44 * 8, 48, unit="ns", when=(50 * 8 + 1, 1, 1)),
)

REQUESTS = (
    "GET_STATUS", "CLEAR_FEATURE", "", "SET_FEATURE", "", "SET_ADDRESS", "GET_DESCRIPTOR", "SET_DESCRIPTOR",
    "GET_CONFIGURATION", "SET_CONFIGURATION", "GET_INTERFACE", "SET_INTERFACE", "SYNCH_FRAME",
)  # fmt: skip
"""Standard requests by number. Source: table 9-4."""
DESCRIPTORS = {
    1: "device", 2: "configuration", 3: "string", 4: "interface", 5: "endpoint", 6: "device qualifier",
    7: "other speed configuration", 8: "interface power",
}  # fmt: skip
"""Source: table 9-5."""


def _setup_bits(setup: bytes) -> list[HeaderBits]:
    kind, request = setup[0], setup[1]
    value, index, length = (int.from_bytes(setup[at : at + 2], "little") for at in (2, 4, 6))
    of = ("standard", "class", "vendor", "reserved")[kind >> 5 & 3]
    to = {0: "device", 1: "interface", 2: "endpoint", 3: "other"}.get(kind & 31, "reserved")
    word = REQUESTS[request] if of == "standard" and request < len(REQUESTS) else ""
    said = DESCRIPTORS.get(value >> 8, "") if word in ("GET_DESCRIPTOR", "SET_DESCRIPTOR") else ""
    return [
        HeaderBits("way", f"{kind >> 7:b}", "to the host" if kind >> 7 else "to the device"),
        HeaderBits("kind", f"{kind >> 5 & 3:02b}", of),
        HeaderBits("to", f"{kind & 31:05b}", to),
        HeaderBits("bRequest", f"{request:02X}h", word),
        HeaderBits("wValue", f"{value:04X}h", f"{said} {value & 0xFF}".strip() if said else ""),
        HeaderBits("wIndex", f"{index:04X}h"),
        HeaderBits("wLength", f"{length:04X}h", f"{length} bytes"),
    ]


def _kind(frame: FrameBatch) -> str:
    if frame.header is None:
        return "USB"
    row = first_row(FIELDS, frame.header)
    event, transfer = row["event"][1] or 0, row["transfer"][1] or 0
    done = {0: "submitted", 1: "completed", 2: "not taken"}.get(event, "")
    return f"USB {TRANSFERS.get(transfer, '')} transfer, {done}"


def _brief(frame: FrameBatch) -> str:
    assert frame.header is not None
    row = first_row(FIELDS, frame.header)
    said = [field.text(number) for field, number in (row["event"], row["transfer"]) if number is not None]
    if frame.header[0, 50] & KNOWS_SETUP:
        # Only control transfers have setup data.
        return " ".join([*said[:1], _asked(frame.header[0, 24:32].tobytes())])
    field, status = row["status"]
    return " ".join([*said, field.text(status)] if status is not None and row["event"][1] != 0 else said)


def _asked(setup: bytes) -> str:
    """What a standard request asks for."""
    kind, request = setup[0], setup[1]
    word = REQUESTS[request] if not kind >> 5 & 3 and request < len(REQUESTS) else ""
    return word or f"request {request:02X}h"


def _header(frame: FrameBatch) -> list[HeaderBits]:
    if frame.header is None or not frame.header[0, 50] & KNOWS_SETUP:
        return []
    return _setup_bits(frame.header[0, 24:32].tobytes())


def _size(frame: FrameBatch) -> str:
    if frame.header is None:
        return ""
    row = first_row(FIELDS, frame.header)
    return f"{'moved' if row['event'][1] == 1 else 'asked for'} {row['length'][1]} bytes"


def _parts(frame: FrameBatch) -> list[tuple[str, str]]:
    """A descriptor that came back, as far as it has the form of one. Source: 9.6.1, 9.6.7."""
    payload = frame.payload(0)
    if frame.header is None or int(frame.form[0]) != IN_DONE.number or frame.header[0, 9] != CONTROL:
        return []
    if len(payload) >= 18 and payload[:2] == b"\x12\x01":
        version, vendor, product = (int.from_bytes(payload[at : at + 2], "little") for at in (2, 8, 10))
        return [
            ("device", f"USB {version >> 8:x}.{version >> 4 & 15:x}"),
            ("vendor", f"{vendor:04X}, product {product:04X}"),
        ]
    if len(payload) > 2 and payload[0] == len(payload) and payload[1] == 3:
        return [("string", payload[2:].decode("utf-16-le", "replace"))]
    return []


USB = Medium(
    "usb",
    "USB",
    "bit/s",
    (OUT, IN, OUT_DONE, IN_DONE),
    kind=_kind,
    size=_size,
    header=_header,
    faults={
        Fault.STALL: "the endpoint stalled: it does not take or do what was asked",
        Fault.TIMEOUT: "nothing came back in time",
        Fault.CRC: "a CRC on the wire was wrong, or nothing answered",
        Fault.NO_RESPONSE: "the device did not answer, or is gone",
        Fault.LENGTH: "more came than was asked for, or less than had to",
        Fault.OTHER: "it ended in an error that the status names",
        Fault.TRUNCATED: "the capture kept only the first bytes of the data",
    },
    fields=FIELDS,
    header_bytes=HEADER_BYTES,
    brief=_brief,
    parts=_parts,
    ident_cells=12,
)
