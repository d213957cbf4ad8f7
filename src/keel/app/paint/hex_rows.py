"""A long payload as rows: where each begins, its bytes in hex, and as text."""

from __future__ import annotations

from keel.app.paint.canvas import Line
from keel.app.paint.palette import Palette
from keel.model.safe_text import ascii_of


def bytes_a_row(width: int) -> int:
    """How many bytes stand in a row of so many cells: eight, or sixteen where there is room."""
    return 16 if width >= 8 + 16 * 4 else 8


def hex_rows(palette: Palette, width: int, payload: bytes, fresh: bytes, first: int, most: int) -> list[Line]:
    """The rows from the one on that holds byte ``first``, at most ``most``; if some are left out the last line says so.

    Args:
        palette: The colours.
        width: Cells there are.
        payload: What to draw.
        fresh: For each byte which of its bits are fresh; may be shorter than the payload.
        first: The first byte shown.
        most: Lines there are.
    """
    step = bytes_a_row(width)
    first = min(first, max(len(payload) - 1, 0)) // step * step
    rows = range(first, len(payload), step)
    cut = bool(first) or len(rows) > most
    shown = rows[: max(most - 1, 1)] if cut else rows
    digits = max(4, len(f"{max(len(payload) - 1, 0):X}"))
    lines = []
    for begin in shown:
        piece = payload[begin : begin + step]
        line = Line(width, palette.style("text"))
        line.put(0, f"{begin:0{digits}X}", palette.style("dim"))
        for place, byte in enumerate(piece):
            moved = begin + place < len(fresh) and fresh[begin + place]
            line.put(digits + 2 + 3 * place, f"{byte:02X}", palette.style("brass" if moved else "text"))
        line.put(digits + 2 + 3 * step + 1, ascii_of(piece), palette.style("slate"))
        lines.append(line)
    if cut:
        last = min(shown[-1] + step, len(payload)) - 1
        line = Line(width, palette.style("text"))
        line.put(0, f"bytes {first}–{last} of {len(payload)}, ← →", palette.style("dim"))
        lines.append(line)
    return lines
