"""The bit loom: bits across, time down, shade for how often each bit flips."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from keel.app.paint.canvas import Line
from keel.app.paint.palette import Palette
from keel.app.paint.strokes import shade
from keel.model.fields import BitField


def loom(
    palette: Palette,
    width: int,
    shares: npt.NDArray[np.float64],
    field: BitField,
    marked: npt.NDArray[np.bool_],
    first_byte: int,
) -> list[Line]:
    """One line for each stretch of time and one for the byte numbers.

    Args:
        palette: The colours.
        width: Cells there are.
        shares: How often each bit flips, shape (stretches, bits).
        field: Drawn in the first colour; other bits are dim.
        marked: Which stretches lie in a marked span, shape (stretches,).
        first_byte: The first byte shown.
    """
    lines = []
    bits = set(field.bits)
    count = shares.shape[1] // 8
    shown = range(first_byte, min(count, first_byte + max((width - 2) // 9, 1)))
    for row, stretch in enumerate(shares):
        line = Line(width, palette.style("text"))
        line.put(0, "┃" if marked[row] else " ", palette.style("brass"))
        for place, byte in enumerate(shown):
            for bit in range(8):
                number = byte * 8 + bit
                cell = 2 + place * 9 + (7 - bit)
                char = shade(float(stretch[number]) ** 0.5)
                role = "sea" if number in bits else "faint"
                line.put(cell, char if char != " " else "·", palette.style(role if char != " " else "line"), 1)
        lines.append(line)
    foot = Line(width, palette.style("text"))
    for place, byte in enumerate(shown):
        foot.put(2 + place * 9, f"byte {byte}", palette.style("dim"), 8)
    return [*lines, foot]
