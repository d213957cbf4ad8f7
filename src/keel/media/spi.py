"""SPI: words both ways at once, for as long as a device is selected.

There is no standard; the modes are those that data sheets of the trade number by clock polarity and phase.
"""

from __future__ import annotations

from keel.media.medium import IdentForm, Medium
from keel.model.faults import Fault


def _select(number: int, word: str, role: str) -> IdentForm:
    return IdentForm(number, word, "select", 8, role=role)


OUT = _select(27, "spi-out", "out")
"""What the controller sends, by the number of the select that is active."""
IN = _select(28, "spi-in", "in")

SPI = Medium(
    "spi",
    "SPI",
    "Hz",
    (OUT, IN),
    kind=lambda frame: "SPI out" if int(frame.form[0]) == OUT.number else "SPI in",
    size=lambda frame: f"{int(frame.lengths[0])} bytes",
    faults={Fault.LENGTH: "it ends within a word"},
    ident_cells=5,
)
