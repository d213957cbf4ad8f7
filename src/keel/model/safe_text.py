"""Text from outside, made harmless: what reaches a terminal, a table or a drawing holds no control characters."""

from __future__ import annotations

import unicodedata


def plain(text: str, most: int = 200) -> str:
    """``text`` with control, format and unassigned characters shown as ``·``, cut to ``most`` characters."""
    if text.isascii() and text.isprintable():
        return text if len(text) <= most else text[: most - 1] + "…"
    shown = "".join("·" if unicodedata.category(c)[0] == "C" else c for c in text[: most + 1])
    return shown if len(shown) <= most else shown[: most - 1] + "…"


def ascii_of(payload: bytes) -> str:
    """A payload as text: printable ASCII as it is, everything else as ``·``."""
    return "".join(chr(b) if 32 <= b < 127 else "·" for b in payload)


_FORMULA = ("=", "+", "-", "@", "'")


def csv_cell(text: str) -> str:
    """A text cell that no spreadsheet takes for a formula: an apostrophe stands before what looks like one."""
    text = plain(text)
    return "'" + text if text.startswith(_FORMULA) else text


def uncsv(cell: str) -> str:
    """The inverse of `csv_cell`; an apostrophe before anything else is itself."""
    return cell[1:] if cell[:1] == "'" and cell[1:].startswith(_FORMULA) else cell
