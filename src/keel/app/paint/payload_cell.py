"""A payload in a list's cell: as hex, bits, decimal or text, each byte in a colour of its own."""

from __future__ import annotations

from collections.abc import Callable

from keel.app.paint.canvas import Line
from keel.app.paint.palette import Palette
from keel.model.safe_text import ascii_of

FORMS = ("hex", "bits", "decimal", "text")
SIZES = {"hex": 3, "bits": 9, "decimal": 4, "text": 1}


def write_payload(
    line: Line, at: int, width: int, payload: bytes, form: str, role: Callable[[int], str], palette: Palette, on: str,
    first: int = 0,
) -> None:  # fmt: skip
    """Write a payload.

    Args:
        line: Where.
        at, width: The cells it has.
        payload: The bytes.
        form: One of `FORMS`.
        role: The colour of each byte by its place.
        palette, on: The colours, and the ground.
        first: The first byte shown.
    """
    size = SIZES[form]
    room = max((width + (0 if form == "text" else 1)) // size, 1)
    first = min(first, max(len(payload) - room, 0))
    long = len(payload) - first > room
    text = ascii_of(payload)
    for place, n in enumerate(range(first, min(len(payload), first + room - (1 if long else 0)))):
        byte = payload[n]
        cell = {"hex": f"{byte:02X}", "bits": f"{byte:08b}", "decimal": f"{byte:3d}", "text": text[n]}[form]
        colour = role(n)
        line.put(at + size * place, cell, palette.style(colour, on, colour == "brass"), max(size - 1, 1))
    if long:
        line.put(at + size * (room - 1), "…", palette.style("dim", on), 1)
    if first:
        line.put(at - 1, "…", palette.style("dim", on), 1)


def next_form(form: str) -> str:
    """The form after this one."""
    return FORMS[(FORMS.index(form) + 1) % len(FORMS)]
