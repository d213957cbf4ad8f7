"""The head: which recording, live or not, how much, how full, what is wrong."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.style import Style

from keel.app.paint import words
from keel.app.paint.canvas import Line, Sheet
from keel.app.paint.strokes import bar
from keel.model.units import NS_PER_S

if TYPE_CHECKING:
    from keel.app.desk.picture import Picture

MUCH, SOON_S, ROOMY = 0.25, 1800.0, 190
"""A buffer so full, and a disk that is full so soon, are said in any window; else only in a roomy one."""


class Head(Sheet):
    """One row."""

    DEFAULT_CSS = "Head { height: 1; }"

    def __init__(self, name: str, waits: bool) -> None:
        """``waits``: whether a recorder is starting that will fill the recording."""
        super().__init__(id="head")
        self._title, self._waits = name, waits
        self.picture: Picture | None = None
        self._held = False
        self._damaged = 0

    def open(self, name: str) -> None:
        """Another recording is opened."""
        self._waits = self._waits and self._title == name
        self._title, self.picture, self._damaged = name, None, 0
        self.repaint()

    def say_damaged(self) -> None:
        """One more file of the recording is not what was written."""
        self._damaged += 1
        self.repaint()

    def show(self, picture: Picture, held: bool) -> None:
        """Show another moment."""
        self.picture, self._held = picture, held
        self.repaint()

    def paint(self, width: int, height: int) -> list[Line]:
        """The row."""
        style = self.palette.style
        line = self.line(width, "panel")
        at = line.put(0, " KEEL ", style("ink", "sea", True)) + 2
        picture = self.picture
        if picture is None:
            at = line.put(at, self._title, style("strong", "panel", True), 40 if width > 120 else 24)
            line.put(at + 2, "waiting for the recorder…" if self._waits else "opening…", style("dim", "panel"))
            return [line]
        manifest = picture.snapshot.manifest
        name = manifest.name if len(manifest.name) < 30 else manifest.name[:29] + "…"
        at = line.put(at, name, style("strong", "panel", True)) + 3
        at = line.put(at, *self._liveness(picture, width)) + 2
        elapsed = picture.whole.end - picture.whole.start
        shown = (
            words.length(elapsed) if 0 < elapsed < NS_PER_S and not picture.snapshot.live else words.duration(elapsed)
        )
        at = line.put(at, shown, style("sea", "panel")) + 3
        at = line.put(at, f"{words.count(picture.snapshot.frames)} frames", style("text", "panel")) + 3
        if picture.snapshot.live:
            at = line.put(at, f"{picture.rate_hz:.0f}/s".rjust(7), style("text", "panel")) + 3
            for text, role in how_it_goes(picture, width):
                at = line.put(at, text, style(role, "panel")) + 2
        if self._damaged:
            files = "a file is" if self._damaged == 1 else f"{self._damaged} files are"
            at = line.put(at, f"✕ {files} damaged", style("coral", "panel", True)) + 3
        faults = picture.faults
        lost = manifest.lost + (picture.status.lost if picture.status else 0)
        tail = f"✕ {words.count(faults)} fault{'s' if faults != 1 else ''}" if faults else "· no faults"
        if (picture.wish.ask or picture.wish.lens is not None) and width >= 100:
            # What stands below is of the ask and the lens, this is not.
            tail += " of all"
        tail_at = width - len(tail) - len(f"{lost} lost") - 4
        line.put(tail_at - 2, " " * width, style("text", "panel"))
        line.put(tail_at, tail, style("coral" if faults else "dim", "panel"))
        line.put(tail_at + len(tail) + 3, f"{lost} lost", style("coral" if lost else "dim", "panel"))
        self._loads(line, picture, at, tail_at - 2)
        return [line]

    def _liveness(self, picture: Picture, width: int) -> tuple[str, Style]:
        style = self.palette.style
        if picture.gone:
            return "✕ gone", style("coral", "panel", True)
        if self._held:
            return "■ held", style("brass", "panel")
        if picture.snapshot.live:
            return "● live", style("sea", "panel")
        if picture.snapshot.was_cut_short:
            return "○ ended without closing" if width >= 120 else "○ ended, not closed", style("brass", "panel")
        return "○ ended", style("dim", "panel")

    def _loads(self, line: Line, picture: Picture, at: int, end: int) -> None:
        style = self.palette.style
        buses = picture.snapshot.manifest.buses
        from keel.media.every import medium_of

        if not picture.snapshot.live or not picture.loads:
            return
        room = (end - at) // max(len(buses), 1)
        width = min(room - 13, 14)
        for index, bus in enumerate(buses):
            role = self.palette.bus(index)
            if not medium_of(bus).has_load:
                continue
            if room < 11:
                return
            at = line.put(at, bus.name[:4], style(role, "panel")) + 1
            load = picture.loads[index] if index < len(picture.loads) else 0.0
            if width >= 4:
                line.put(at, "─" * width, style("line", "panel"))
                filled = bar(load, width).rstrip()
                line.put(at, filled, style(role, "panel"))
                at += width + 1
            at = line.put(at, words.percent(load).rjust(5), style("text", "panel")) + 2


def how_it_goes(picture: Picture, width: int) -> list[tuple[str, str]]:
    """How the recording goes, in a few words and the role they are painted in: what is wrong first; all of it in
    Health."""
    status = picture.status
    if status is None:
        return []
    said = []
    if any(isinstance(hole, dict) and hole.get("end") is None for hole in status.holes):
        said.append(("✕ source gone", "coral"))
    elif status.holes:
        said.append((f"✕ {len(status.holes)} hole{'s' if len(status.holes) > 1 else ''}", "coral"))
    if status.clock_steps:
        said.append((f"✕ clock set {status.clock_steps}×", "coral"))
    if status.buffer >= MUCH or width >= ROOMY:
        said.append((f"buffer {words.percent(status.buffer)}", "coral" if status.buffer >= MUCH else "dim"))
    if 0 <= status.disk_left_s < SOON_S or (width >= ROOMY and status.disk_left_s >= 0):
        said.append((f"disk {words.lasting(status.disk_left_s)}", "coral" if status.disk_left_s < SOON_S else "dim"))
    return said
