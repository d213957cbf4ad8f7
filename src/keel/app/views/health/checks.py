"""The user's own checks, passed or failed, as rows."""

from __future__ import annotations

from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.palette import Palette
from keel.measure.checks import Verdict

SIGNS = {True: ("✓ passed", "sea"), False: ("✕ failed", "coral"), None: ("? open", "brass")}


def check_lines(palette: Palette, width: int, checks: list[Verdict], zero: int, active: int | None) -> list[Line]:
    """A title, and a row for each check; ``active`` is the one in hand.

    Args:
        palette: The colours.
        width: Cells there are.
        checks: How they came out.
        zero: When the recording begins, in ns.
        active: The row in hand, None if another list has the keys.
    """
    title = Line(width, palette.style("text"))
    title.put(2, "your checks", palette.style("brass" if active is not None else "dim"))
    if not checks:
        title.put(15, "none yet: a writes one, as count(fault:crc) < 5 per 1min", palette.style("faint"), width - 16)
    lines = [title]
    for i, verdict in enumerate(checks):
        on = "raised" if i == active else "ink"
        line = Line(width, palette.style("text", on))
        if i == active:
            line.put(0, "▌", palette.style("brass", on))
        sign, role = SIGNS[verdict.passed]
        line.put(2, sign, palette.style(role, on), 8)
        half = max((width - 13) // 2, 12)
        line.put(11, verdict.text, palette.style("text", on), half)
        at = f"  at {words.seconds(verdict.at - zero)} s" if verdict.at is not None else ""
        line.put(12 + half, f"{verdict.figure}{at}", palette.style("dim", on), max(width - 13 - half, 0))
        lines.append(line)
    return lines
