"""I2C: bytes to a device or from it, by its address.

Source: I2C-bus specification UM10204, revision 7, 3.1 (start, stop, acknowledge), 3.1.11 (10-bit addresses).
"""

from __future__ import annotations

from keel.media.medium import IdentForm, Medium
from keel.model.faults import Fault


def _address(number: int, word: str, bits: int, role: str) -> IdentForm:
    digits = -(-bits // 4)
    return IdentForm(number, word, f"{bits}-bit address", bits, role=role, written=lambda ident: f"{ident:0{digits}X}")


WRITE = _address(29, "i2c-write", 7, "write")
READ = _address(30, "i2c-read", 7, "read")
WRITE_10 = _address(31, "i2c-write-10", 10, "write")
READ_10 = _address(32, "i2c-read-10", 10, "read")

I2C = Medium(
    "i2c",
    "I2C",
    "Hz",
    (WRITE, READ, WRITE_10, READ_10),
    kind=lambda frame: "I2C write" if int(frame.form[0]) in (WRITE.number, WRITE_10.number) else "I2C read",
    size=lambda frame: f"{int(frame.lengths[0])} bytes",
    faults={
        Fault.ACK: "no device answered to the address",
        Fault.LENGTH: "it ends within a byte",
    },
    spoils={Fault.ACK: "nothing"},
    ident_cells=9,
)
