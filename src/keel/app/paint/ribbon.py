"""The ribbon: a payload as one row of bits, most significant first, with brackets under it for the fields, like the
dimension lines of a ship's drawing."""

from __future__ import annotations

from keel.app.paint.canvas import Line
from keel.app.paint.palette import Palette
from keel.signals.dictionary import GLYPHS, Message, Signal

LEFT = 8
BYTE_CELLS = 17
ROLE_COLOURS = {
    "value": "sea",
    "flag": "plum",
    "selector": "slate",
    "counter": "ember",
    "checksum": "ember",
    "constant": "dim",
    "text": "text",
}


def bytes_that_fit(width: int) -> int:
    """How many bytes a ribbon of so many cells shows."""
    return max((width - LEFT) // BYTE_CELLS, 1)


def ribbon(
    palette: Palette, width: int, payload: bytes, message: Message | None, fresh: bytes, first: int = 0
) -> list[Line]:
    """Three lines: byte numbers, bits, brackets.

    Args:
        palette: The colours.
        width: Cells there are.
        payload: What to draw.
        message: The fields, if known.
        fresh: For each byte the bits that are fresh; may be shorter than the payload.
        first: The first byte shown.
    """
    base = palette.style("text")
    lines = [Line(width, base) for _ in range(3)]
    lines[0].put(1, "byte", palette.style("dim"))
    lines[1].put(1, "bits", palette.style("text"))
    shown = range(first, min(len(payload), first + bytes_that_fit(width)))
    signals = message.present(payload) if message else []
    named = {bit for signal in signals for bit in signal.field.bits}
    for byte in shown:
        at = LEFT + (byte - first) * BYTE_CELLS
        lines[0].put(at + 6, str(byte), palette.style("dim"), 3)
        marks = fresh[byte] if byte < len(fresh) else 0
        for bit in range(8):
            cell = at + (7 - bit) * 2
            role = "brass" if marks >> bit & 1 else "text" if byte * 8 + bit in named else "dim"
            lines[1].put(cell, str(payload[byte] >> bit & 1), palette.style(role), 1)
    for signal in signals:
        for low, high in _stretches(signal, first, len(shown)):
            _bracket(lines[2], low, high, signal, palette)
    return lines


def _stretches(signal: Signal, first: int, count: int) -> list[tuple[int, int]]:
    """The cells that a field covers, from left to right, neighbours joined."""
    found: list[tuple[int, int]] = []
    for byte, low, bits, _ in sorted(signal.field.pieces):
        if not first <= byte < first + count:
            continue
        at = LEFT + (byte - first) * BYTE_CELLS
        start, end = at + (8 - low - bits) * 2, at + (7 - low) * 2
        if found and start - found[-1][1] <= 3:
            found[-1] = (found[-1][0], end)
        else:
            found.append((start, end))
    return found


def _bracket(line: Line, start: int, end: int, signal: Signal, palette: Palette) -> None:
    style = palette.style(ROLE_COLOURS[signal.role])
    size = end - start + 1
    if size == 1:
        line.put(start, "╵", style)
        return
    label = f" {signal.name} " if size >= len(signal.name) + 4 else GLYPHS[signal.role] if size >= 3 else ""
    rest = size - 2 - len(label)
    line.put(start, "╰" + "─" * min(rest, 1) + label + "─" * (rest - min(rest, 1)) + "╯", style, size)


def value_lines(palette: Palette, width: int, payload: bytes, message: Message | None, most: int) -> list[Line]:
    """The signals of a payload with their values, as many lines as it takes, at most ``most``."""
    lines = [Line(width, palette.style("text"))]
    at = 1
    for signal in message.present(payload) if message else []:
        value = signal.words(payload) or "—"
        size = len(signal.name) + len(value) + 6
        if at + size > width and at > 1:
            if len(lines) == most:
                lines[-1].put(width - 2, "…", palette.style("dim"))
                break
            lines.append(Line(width, palette.style("text")))
            at = 1
        line = lines[-1]
        at = line.put(at, GLYPHS[signal.role], palette.style(ROLE_COLOURS[signal.role])) + 1
        at = line.put(at, signal.name, palette.style("dim")) + 1
        at = line.put(at, value, palette.style("text", bold=signal.role == "value")) + 3
    return lines


def kept_words(payload: bytes, message: Message | None) -> str:
    """Name and value of the signals that a person kept, as one short text."""
    if message is None:
        return ""
    kept = [s for s in message.present(payload) if s.found]
    return "  ".join(f"{s.name} {s.words(payload)}" for s in kept)
