"""What advertising PDUs say: pieces of a length, a kind and a value each.

Source: Bluetooth Core Specification 5.4, volume 3, part C, 11 (format); Bluetooth Assigned Numbers, 2.3 (kinds); volume
6, part B, 2.3.4 (the common extended header, of which the data follows).
"""

from __future__ import annotations

from collections.abc import Iterator

KINDS = {
    0x01: "flags", 0x02: "services", 0x03: "services", 0x06: "services", 0x07: "services", 0x08: "short name",
    0x09: "name", 0x0A: "sent with", 0x12: "connects every", 0x16: "service data", 0x19: "appearance",
    0x21: "service data", 0xFF: "maker data",
}  # fmt: skip
NAMES = (0x09, 0x08)
FLAGS = ("limited discoverable", "discoverable", "no BR/EDR", "BR/EDR too", "BR/EDR too, host")
ADDRESS_BYTES = 6


def pieces(data: bytes) -> Iterator[tuple[int, bytes]]:
    """Kind and value of each piece; what is cut short at the end is left out."""
    at = 0
    while at + 1 < len(data) and data[at]:
        value = data[at + 2 : at + 1 + data[at]]
        if at + 1 + data[at] > len(data):
            return
        yield data[at + 1], value
        at += 1 + data[at]


def data_of(payload: bytes, is_extended: bool) -> bytes:
    """The advertising data of a PDU's payload: after the address, or after the extended header."""
    if not is_extended:
        return payload[ADDRESS_BYTES:]
    return payload[1 + (payload[0] & 63) :] if payload else b""


def name_in(data: bytes) -> str:
    """The name of the device; empty if it is not there."""
    said = dict(pieces(data))
    return next((said[kind].decode("utf-8", "replace") for kind in NAMES if kind in said), "")


def said(data: bytes) -> list[tuple[str, str]]:
    """Each piece in words."""
    return [(KINDS.get(kind, f"kind {kind:02X}"), _value(kind, value)) for kind, value in pieces(data)]


def _value(kind: int, value: bytes) -> str:
    if kind in NAMES:
        return value.decode("utf-8", "replace")
    if kind == 0x01 and value:
        return ", ".join(word for bit, word in enumerate(FLAGS) if value[0] >> bit & 1) or "none"
    if kind == 0x0A and value:
        return f"{int.from_bytes(value[:1], 'little', signed=True)} dBm".replace("-", "−")
    if kind in (0x02, 0x03):
        return " ".join(f"{int.from_bytes(value[i : i + 2], 'little'):04X}" for i in range(0, len(value) - 1, 2))
    if kind in (0x16, 0xFF, 0x19) and len(value) >= 2:
        return f"{int.from_bytes(value[:2], 'little'):04X} {value[2:].hex(' ').upper()}".rstrip()
    if kind == 0x12 and len(value) == 4:
        least, most = (int.from_bytes(value[i : i + 2], "little") * 1.25 for i in (0, 2))
        return f"{least:g} to {most:g} ms"
    return value.hex(" ").upper()
