"""Identifiers: who sent a frame, packed into one integer so that a column of them sorts and groups fast.

A *key* is 64 bits: bus index (8) · form (8) · identifier (48). The form tells an 11-bit from a
29-bit identifier of the same number, and leaves room for the addresses of other lines.
"""

from __future__ import annotations

from enum import IntEnum
from typing import TypeAlias

import numpy as np
import numpy.typing as npt

Keys: TypeAlias = npt.NDArray[np.uint64]

EXTENDED_ID_MAX = 0x1FFF_FFFF
IDENT_BITS = 48
IDENT_MASK = (1 << IDENT_BITS) - 1


class Form(IntEnum):
    """What kind of number an identifier is."""

    BASE = 0
    """CAN, 11 bits."""
    EXTENDED = 1
    """CAN, 29 bits."""
    SERIAL = 2
    """A serial line: the number of the talker where the line has any, else 0."""
    WIRE = 3
    """A single-wire link."""
    BLE = 4
    """Bluetooth Low Energy: the advertiser's address."""
    USB = 5
    """USB: bus, device and endpoint."""
    NONE = 255
    """No identifier is known, as for an error frame that names none."""


def pack_key(bus: int, form: int, ident: int) -> int:
    """The key of one identifier on one bus."""
    return bus << 56 | form << IDENT_BITS | ident


def unpack_key(key: int) -> tuple[int, Form, int]:
    """Bus index, form and identifier of a key."""
    key = int(key)
    return key >> 56, Form(key >> IDENT_BITS & 0xFF), key & IDENT_MASK


def pack_keys(bus: npt.NDArray[np.uint8], form: npt.NDArray[np.uint8], ident: Keys) -> Keys:
    """Column form of `pack_key`; all shape (n,)."""
    packed: Keys = (bus.astype(np.uint64) << np.uint64(56)) | (form.astype(np.uint64) << np.uint64(48)) | ident
    return packed


def format_ident(form: int, ident: int) -> str:
    """An identifier as people write it: 3 hex digits for 11 bits, 8 for 29, a dash for none."""
    if form == Form.NONE:
        return "—"
    if form > Form.EXTENDED:
        return f"{ident:X}"
    return f"{ident:03X}" if form == Form.BASE else f"{ident:08X}"


def parameter_group(ident: int) -> int:
    """The parameter group number of a 29-bit identifier.

    Of a group that is sent to one address (PDU format below 240) the destination is no part.

    Source: SAE J1939-21, 5.2.
    """
    group = ident >> 8 & 0x3FFFF
    return group & 0x3FF00 if group >> 8 & 0xFF < 240 else group


def key_words(key: int) -> str:
    """The identifier of a key, without its bus."""
    _, form, ident = unpack_key(key)
    return format_ident(form, ident)
