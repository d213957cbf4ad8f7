"""The list of recordings, to choose one."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING

from textual import events, work
from textual.app import ComposeResult
from textual.binding import Binding
from textual.screen import Screen

from keel.app.paint import words
from keel.app.paint.canvas import Line, Sheet
from keel.app.paint.table import Column, fit, window

if TYPE_CHECKING:
    from keel.store.library import Shelved

COLUMNS = (
    Column("name", "recording", 34),
    Column("when", "made", 17, drop=1),
    Column("length", "length", 12, True),
    Column("frames", "frames", 13, True),
    Column("marks", "marks", 6, True, drop=3),
    Column("state", "", 7, drop=4),
    Column("source", "from", 50, drop=2),
)

LEFT = Path()
"""Given back when none was chosen."""


class LibraryList(Sheet):
    """The list."""

    can_focus = True

    def __init__(self) -> None:
        super().__init__(id="library")
        self.found: list[Shelved] | None = None
        self.where = ""
        self._cursor = self._top = 0

    def paint(self, width: int, height: int) -> list[Line]:
        """Heading and rows."""
        style = self.palette.style
        lines = [self.line(width, "panel"), self.line(width)]
        at = lines[0].put(0, " KEEL ", style("ink", "sea", True)) + 2
        lines[0].put(at, "recordings", style("strong", "panel", True))
        if self.found is None:
            lines[1].put(2, "Looking…", style("dim"))
            return lines
        if not self.found:
            lines += [self.line(width) for _ in range(3)]
            lines[2].put(4, "There is no recording yet.", style("text"))
            lines[3].put(4, "keel demo sails a simulated ferry; keel open FILE reads a capture;", style("dim"))
            lines[4].put(4, f"recordings are kept in {self.where}", style("dim"))
            return lines
        columns = fit(COLUMNS, width - 4)
        head = self.line(width)
        for column, place in columns:
            head.put(2 + place, column.title, style("dim"), column.width, column.right)
        lines.append(head)
        room = height - 5
        self._top = window(self._cursor, self._top, room, len(self.found))
        for row in range(self._top, min(self._top + room, len(self.found))):
            lines.append(self._row(self.found[row], row == self._cursor, columns, width))
        while len(lines) < height - 1:
            lines.append(self.line(width))
        foot = self.line(width, "panel")
        at = 1
        for key, word in (("↑ ↓", "choose"), ("enter", "open"), ("q", "quit")):
            at = foot.put(at, key, style("brass", "panel", True)) + 1
            at = foot.put(at, word, style("dim", "panel")) + 3
        return [*lines, foot]

    def _row(self, shelved: Shelved, picked: bool, columns: list[tuple[Column, int]], width: int) -> Line:
        style = self.palette.style
        on = "raised" if picked else "ink"
        line = self.line(width, on)
        if picked:
            line.put(0, "▌", style("brass", on))
        made = time.strftime("%Y-%m-%d %H:%M", time.localtime(shelved.created / 1e9)) if shelved.created else "—"
        cells = {
            "name": (shelved.name, "strong"),
            "when": (made, "dim"),
            "length": (words.duration(int(shelved.seconds * 1e9)), "text"),
            "frames": (words.count(shelved.frames), "text"),
            "marks": (str(shelved.marks) if shelved.marks else "·", "brass" if shelved.marks else "faint"),
            "state": ("● live" if shelved.live else "", "sea"),
            "source": (shelved.source, "dim"),
        }
        for column, at in columns:
            text, role = cells[column.name]
            if shelved.problem and column.name != "name":
                # It has no numbers; their place says why.
                line.put(2 + at, f"✕ {shelved.problem}", style("coral", on), width - at - 4)
                break
            line.put(2 + at, text, style(role, on), column.width, column.right)
        return line

    def move(self, by: int) -> None:
        """Move the cursor."""
        if self.found:
            self._cursor = min(max(self._cursor + by, 0), len(self.found) - 1)
            self.repaint()

    @property
    def chosen(self) -> Path | None:
        """The folder of the row in hand, if it can be opened."""
        if not self.found or self.found[self._cursor].problem:
            return None
        return self.found[self._cursor].folder

    def on_click(self, event: events.Click) -> None:
        """Pick; a second click opens."""
        row = self._top + event.y - 3
        if self.found and 0 <= row < len(self.found):
            self._cursor = row
            self.repaint()
            if event.chain == 2 and self.chosen is not None:
                self.screen.dismiss(self.chosen)


class Library(Screen[Path | None]):
    """The screen. Gives back the folder that was chosen; `LEFT` if none was."""

    BINDINGS = [
        Binding("up,k", "move(-1)", show=False),
        Binding("down,j", "move(1)", show=False),
        Binding("pageup", "move(-10)", show=False),
        Binding("pagedown", "move(10)", show=False),
        Binding("enter", "open", show=False),
        Binding("q,escape", "leave", show=False),
    ]

    def compose(self) -> ComposeResult:
        """The list alone."""
        yield LibraryList()

    def on_mount(self) -> None:
        """Look what there is."""
        self.query_one(LibraryList).focus()
        self._look()

    @work(thread=True, exclusive=True)
    def _look(self) -> None:
        from keel.store.library import home, shelf

        found = shelf()
        self.app.call_from_thread(self._show, found, str(home()))

    def _show(self, found: list[Shelved], where: str) -> None:
        view = self.query_one(LibraryList)
        view.found, view.where = found, where
        view.repaint()

    def action_move(self, by: int) -> None:
        """Move the cursor."""
        self.query_one(LibraryList).move(by)

    def action_open(self) -> None:
        """Open what is in hand."""
        chosen = self.query_one(LibraryList).chosen
        if chosen is not None:
            self.dismiss(chosen)

    def action_leave(self) -> None:
        """Choose nothing."""
        self.dismiss(LEFT)
