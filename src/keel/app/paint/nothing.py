"""What stands where there is nothing to show, and why."""

from __future__ import annotations

from typing import TYPE_CHECKING

from keel.app.paint.canvas import Line
from keel.app.paint.palette import Palette

if TYPE_CHECKING:
    from keel.app.desk.picture import Picture


def opening_lines(palette: Palette, width: int, why: str = "") -> list[Line]:
    """Before the first picture; ``why`` says what keeps it away."""
    lines = [Line(width, palette.style("text")) for _ in range(6)]
    lines[2].put(4, why or "Opening the recording…", palette.style("coral" if why else "dim"), width - 6)
    if why:
        lines[3].put(4, "It is shown as soon as it is there. L lists the recordings, q leaves.", palette.style("dim"))
    return lines


def nothing_lines(palette: Palette, width: int, picture: Picture) -> list[Line]:
    """A sentence, and a hint where one helps."""
    lines = [Line(width, palette.style("text")) for _ in range(6)]
    if picture.ask_error:
        lines[2].put(4, "No frames: the ask cannot be used.", palette.style("coral"))
        lines[3].put(4, picture.ask_error, palette.style("text"), width - 6)
        lines[4].put(4, "⌫ undoes the last change, / changes the ask.", palette.style("dim"))
    elif not picture.matches.complete:
        lines[2].put(4, f"Looking, {picture.matches.looked:.0%} of the frames so far.", palette.style("text"))
    elif picture.snapshot.frames:
        lines[2].put(4, "No frame meets the ask within the lens.", palette.style("text"))
        hint = "⌫ undoes the last change, 0 looks at all of the recording."
        lines[3].put(4, hint, palette.style("dim"))
        for line, sentence in zip(lines[4:], picture.hints, strict=False):
            line.put(4, sentence, palette.style("brass"), width - 6)
    elif picture.snapshot.manifest.waveforms:
        lines[2].put(4, "No frame was read from the waveforms of this recording.", palette.style("text"))
        hint = "7 shows them, says why, and lets you read them by hand."
        lines[3].put(4, hint, palette.style("dim"))
    else:
        text = "No frames yet: they appear here as soon as the bus moves."
        lines[2].put(4, text, palette.style("text"))
    return lines
