"""The link types Keel knows. To add one, write its file and name it here."""

from __future__ import annotations

from keel.formats import ble_packets, canrecord, usb_packets
from keel.formats.packets import LinkType

LINK_TYPES: dict[int, LinkType] = {
    one.number: one for one in (*canrecord.LINK_TYPES, *ble_packets.LINK_TYPES, *usb_packets.LINK_TYPES)
}


def link_type_of(medium: str) -> LinkType:
    """The link type that frames of a kind of line are written as, if they do not say another; that of CAN if none is
    known."""
    return next((one for one in reversed(LINK_TYPES.values()) if one.medium == medium), LINK_TYPES[canrecord.LINK_TYPE])


def known_numbers() -> str:
    """The link types that are known, in words."""
    return ", ".join(map(str, sorted(LINK_TYPES)))
