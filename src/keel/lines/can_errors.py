"""Error frames as capture files carry them: an error class in the identifier, details in eight data bytes.

Source: the link type 227 description (LINKTYPE_CAN_SOCKETCAN) and the Linux kernel's interface header
``linux/can/error.h``, which it refers to.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from keel.model.faults import Fault
from keel.model.frames import Bytes, FaultBits

ERROR_FRAME = 0x2000_0000

_BY_CLASS = {
    0x001: Fault.OTHER,
    0x002: Fault.ARBITRATION,
    0x004: Fault.CONTROLLER,
    0x010: Fault.TRANSCEIVER,
    0x020: Fault.ACK,
    0x040: Fault.BUS_OFF,
    0x100: Fault.RESTARTED,
}
_CONTROLLER_BYTE = {0x03: Fault.LOST, 0x0C: Fault.WARNING, 0x30: Fault.PASSIVE}
_PROTOCOL_BYTE = {0x01 | 0x08 | 0x10: Fault.BIT, 0x02: Fault.FORM, 0x04: Fault.STUFF, 0x20: Fault.OVERLOAD}
_LOCATIONS = {0x08: Fault.CRC, 0x18: Fault.CRC, 0x19: Fault.ACK, 0x1B: Fault.ACK}


def classify(error_class: npt.NDArray[np.uint64], details: Bytes) -> npt.NDArray[np.uint32]:
    """Fault bits of error frames.

    Args:
        error_class: The identifier's 29 bits, shape (n,).
        details: The data bytes, shape (n, 8), zero where there were fewer.

    Returns:
        Fault bits, shape (n,); never 0: what names no class counts as ``other``.
    """
    faults = np.zeros(len(error_class), np.uint32)

    def add(where: npt.NDArray[np.bool_], fault: Fault) -> None:
        faults[where] |= np.uint32(fault)

    for bit, fault in _BY_CLASS.items():
        add((error_class & np.uint64(bit)) != 0, fault)
    controller = (error_class & np.uint64(0x004)) != 0
    for bits, fault in _CONTROLLER_BYTE.items():
        add(controller & ((details[:, 1] & bits) != 0), fault)
    protocol = (error_class & np.uint64(0x008)) != 0
    for bits, fault in _PROTOCOL_BYTE.items():
        add(protocol & ((details[:, 2] & bits) != 0), fault)
    for place, fault in _LOCATIONS.items():
        add(protocol & (details[:, 3] == place), fault)
    add(faults == 0, Fault.OTHER)
    return faults


def error_class(faults: FaultBits, details: Bytes) -> npt.NDArray[np.uint64]:
    """The error class that `classify` reads, with the details, as these faults; as far as there is one."""
    found = np.zeros(len(faults), np.uint64)
    for bit, fault in _BY_CLASS.items():
        if fault != Fault.OTHER:
            found |= np.where(faults & np.uint64(fault), np.uint64(bit), np.uint64(0))
    # An ACK fault may also be said by the place in the frame: then the class is that of the protocol.
    protocol = (details[:, 2] != 0) | np.isin(details[:, 3], list(_LOCATIONS))
    found |= np.where(protocol, np.uint64(0x008), np.uint64(0))
    only_place = protocol & np.isin(details[:, 3], (0x19, 0x1B))
    found &= ~np.where(only_place, np.uint64(0x020), np.uint64(0))
    return np.where(found == 0, np.uint64(0x080), found)
