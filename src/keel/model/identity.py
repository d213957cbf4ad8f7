"""Identifiers: who sent a frame, packed into one integer so that a column of them sorts and groups fast.

A *key* is 64 bits: bus index (8) · form (8) · identifier (48). The form tells an 11-bit from a
29-bit identifier of the same number, and the addresses of other lines; how each is written stands in `keel.media`.
"""

from __future__ import annotations

from enum import IntEnum
from typing import TypeAlias

import numpy as np
import numpy.typing as npt

Keys: TypeAlias = npt.NDArray[np.uint64]

IDENT_BITS = 48
IDENT_MASK = (1 << IDENT_BITS) - 1


NO_IDENT = 255
"""The form of frames without an identifier, as an error frame that names none."""


class Form(IntEnum):
    """The numbers by which recordings know what kind of number an identifier is. Others may come from a later Keel."""

    BASE = 0
    EXTENDED = 1
    SERIAL = 2
    WIRE = 3
    BLE = 4
    USB = 5
    NONE = NO_IDENT


def pack_key(bus: int, form: int, ident: int) -> int:
    """The key of one identifier on one bus."""
    return bus << 56 | form << IDENT_BITS | ident


def unpack_key(key: int) -> tuple[int, int, int]:
    """Bus index, form and identifier of a key."""
    key = int(key)
    return key >> 56, key >> IDENT_BITS & 0xFF, key & IDENT_MASK


def pack_keys(bus: npt.NDArray[np.uint8], form: npt.NDArray[np.uint8], ident: Keys) -> Keys:
    """Column form of `pack_key`; all shape (n,)."""
    packed: Keys = (bus.astype(np.uint64) << np.uint64(56)) | (form.astype(np.uint64) << np.uint64(48)) | ident
    return packed
