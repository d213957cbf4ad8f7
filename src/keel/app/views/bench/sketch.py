"""The ferry from starboard, as a sketch: what has been set shows on it."""

from __future__ import annotations

from keel.app.paint.canvas import Line
from keel.app.paint.palette import Palette

HULL = (
    r"                        ┬                                  ",
    r"                  ╭─────┴─────╮                            ",
    r"                  │ ▫  ▫  ▫  ▫│                            ",
    r"      ╭───────────┴───────────┴──────────────╮             ",
    r"      │  ▫    ▫    ▫    ▫    ▫    ▫    ▫     │             ",
    r"──────┴──────────────────────────────────────┴─────────    ",
    r"╲                T E R N                             ╱     ",
    r" ╲__________________________________________________╱      ",
)
WATER = "≈"
ROWS = len(HULL) + 2
WIDTH = 64


def sketch(palette: Palette, controls: dict[str, str]) -> list[Line]:
    """The lines; ``controls`` as the bench has them."""
    lines = [Line(WIDTH, palette.style("text")) for _ in range(ROWS)]
    for line, text in zip(lines, HULL, strict=False):
        line.put(0, text, palette.style("dim"))
    if controls.get("lights") == "on":
        lines[0].put(24, "✳", palette.style("brass"), 1)
        for row in (2, 4):
            for at, char in enumerate(HULL[row]):
                if char == "▫":
                    lines[row].put(at, "▪", palette.style("brass"), 1)
    ramp = controls.get("ramp", "stop")
    if controls.get("fault-panel") == "on":
        lines[4].put(56, "✕ panel", palette.style("coral"))
    elif ramp != "stop":
        lines[4].put(56, "╲ down" if ramp == "down" else "╱ up", palette.style("brass"))
    thruster = controls.get("thruster", "off")
    if thruster != "off":
        lines[6].put(46, "◀◀" if thruster == "port" else "▶▶", palette.style("brass"))
    shore = controls.get("shore") == "plugged"
    if shore:
        lines[5].put(0, "─", palette.style("sea"))
        lines[4].put(0, "shore", palette.style("sea"))
    lines[8].put(0, WATER * (WIDTH - 6), palette.style("slate"))
    return lines
