"""The list of recordings: the place to start from. What each holds at a glance, what lies beside it, and import, record
and the demo one key away."""

from __future__ import annotations

import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from textual import events, work
from textual.app import ComposeResult
from textual.binding import Binding
from textual.screen import Screen
from textual.worker import get_current_worker

from keel.app.paint import words
from keel.app.paint.canvas import Line, Sheet
from keel.app.paint.strokes import spark
from keel.app.paint.table import Column, fit, grow, header, row_line, window, write_cells
from keel.model.safe_text import plain

if TYPE_CHECKING:
    from keel.app.dialogs.beside import Beside
    from keel.measure.overview import Overview
    from keel.store.library import Shelved

CELLS = 24
COLUMNS = (
    Column("name", "recording", 26),
    Column("when", "made", 16, drop=3),
    Column("length", "length", 10, True),
    Column("frames", "frames", 11, True),
    Column("buses", "buses", 8, drop=2),
    Column("faults", "faults", 8, True),
    Column("marks", "marks", 6, True, drop=4),
    Column("tape", "traffic, │ faults", CELLS, drop=1),
    Column("state", "", 7, drop=5),
    Column("source", "from", 20, drop=6),
)
KEYS = (
    ("↑ ↓", "choose"),
    ("enter", "open"),
    ("i", "import a capture"),
    ("r", "record"),
    ("d", "demo: sail the ferry"),
    ("q", "leave"),
)
BESIDE_ROWS = 6
BESIDE_FROM = 20
"""So high a window must be to show what lies beside the recordings."""


@dataclass(frozen=True)
class Chosen:
    """What was chosen: a recording to open, or what else is to be done; nothing of all that is leaving."""

    folder: Path | None = None
    do: str = ""


@dataclass
class Found:
    """What there is."""

    shelved: list[Shelved]
    where: str
    beside: Beside
    overviews: dict[Path, Overview] = field(default_factory=dict)


class LibraryList(Sheet):
    """The list."""

    can_focus = True

    def __init__(self) -> None:
        super().__init__(id="library")
        self.found: Found | None = None
        self._cursor = self._top = 0

    def paint(self, width: int, height: int) -> list[Line]:
        """Heading, rows, what lies beside, keys."""
        style = self.palette.style
        lines = [self.line(width, "panel"), self.line(width)]
        at = lines[0].put(0, " KEEL ", style("ink", "sea", True)) + 2
        at = lines[0].put(at, "recordings", style("strong", "panel", True)) + 3
        found = self.found
        if found is None:
            lines[1].put(2, "Looking…", style("dim"))
            return lines
        lines[0].put(at, f"in {found.where}", style("dim", "panel"), max(width - at - 1, 0))
        below = self._beside(width, found) if height >= BESIDE_FROM else []
        if not found.shelved:
            lines += self._how_to(width)
        else:
            columns = fit(COLUMNS, width - 4)
            spare = width - 4 - columns[-1][1] - columns[-1][0].width
            columns = grow(columns, "source", spare) if spare > 0 else columns
            lines.append(header(self.palette, width, columns, 2))
            room = max(height - 5 - len(below), 1)
            self._top = window(self._cursor, self._top, room, len(found.shelved))
            for row in range(self._top, min(self._top + room, len(found.shelved))):
                lines.append(self._row(found, found.shelved[row], row == self._cursor, columns, width))
        while len(lines) < height - 1 - len(below):
            lines.append(self.line(width))
        foot = self.line(width, "panel")
        at = 1
        for key, word in KEYS:
            at = foot.put(at, key, style("brass", "panel", True)) + 1
            at = foot.put(at, word, style("dim", "panel")) + 3
        return [*lines[: max(height - 1 - len(below), 0)], *below, foot]

    def _how_to(self, width: int) -> list[Line]:
        steps = (
            ("", "There is no recording yet."),
            ("", ""),
            ("d", "sails a simulated ferry and records it: keel demo does the same"),
            ("i", "imports a capture that another tool wrote: so does keel open FILE"),
            ("r", "records from a source"),
        )
        lines = []
        for key, text in steps:
            line = self.line(width)
            line.put(4, key, self.palette.style("brass", bold=True))
            line.put(8 if key else 4, text, self.palette.style("text"))
            lines.append(line)
        return lines

    def _beside(self, width: int, found: Found) -> list[Line]:
        """What lies in the folder one is in."""
        style, beside = self.palette.style, found.beside
        lines = [self.line(width) for _ in range(BESIDE_ROWS)]
        lines[0].put(0, "─" * width, style("line"))
        lines[0].put(2, " in the folder you are in ", style("dim"))
        names = ", ".join(plain(path.name, 60) for path in beside.dictionaries)
        at = lines[1].put(2, "dictionaries", style("dim"), 14)
        lines[1].put(at, names or "none; D in a recording adds one from anywhere", style("text"), width - at - 2)
        at = lines[2].put(2, "captures", style("dim"), 14)
        if not beside.captures:
            lines[2].put(at, "none that Keel reads; i imports one from anywhere", style("text"), width - at - 2)
        for line, (path, kind) in zip(lines[2:], beside.captures, strict=False):
            end = line.put(at, path.name, style("strong"), min(len(path.name), 60)) + 2
            line.put(end, kind, style("dim"))
        more = len(beside.captures) - (BESIDE_ROWS - 2)
        if more > 0:
            lines[-1].put(width - 14, f"and {more} more", style("dim"), 12, True)
        return lines

    def _row(
        self, found: Found, shelved: Shelved, in_hand: bool, columns: list[tuple[Column, int]], width: int
    ) -> Line:
        line, on = row_line(self.palette, width, in_hand)
        made = time.strftime("%Y-%m-%d %H:%M", time.localtime(shelved.created / 1e9)) if shelved.created else "—"
        glance = found.overviews.get(shelved.folder)
        cells = {
            "name": (shelved.name, "strong"),
            "when": (made, "dim"),
            "length": (words.duration(int(shelved.seconds * 1e9)), "text"),
            "frames": (words.count(shelved.frames), "text"),
            "marks": (str(shelved.marks) if shelved.marks else "·", "brass" if shelved.marks else "faint"),
            "state": ("● live" if shelved.live else "", "sea"),
            "source": (shelved.source, "dim"),
            "buses": (" ".join(glance.buses) if glance is not None else "…", "text"),
            "faults": ("…", "faint"),
            "tape": ("", "sea"),
        }
        if glance is not None:
            cells["faults"] = (f"✕ {words.count(glance.faults)}", "coral") if glance.faults else ("·", "faint")
            cells["tape"] = (spark(glance.rates, 1.5 * max(glance.rates, default=1.0) or 1.0), "sea")
        if shelved.problem:
            # It has no numbers; their place says why.
            name, at = columns[0]
            line.put(2 + at, shelved.name, self.palette.style("strong", on), name.width)
            line.put(
                3 + at + name.width,
                f"✕ {shelved.problem}",
                self.palette.style("coral", on),
                width - at - name.width - 6,
            )
            return line
        write_cells(self.palette, line, columns, 2, cells, on)
        for column, at in columns:
            if column.name == "tape" and glance is not None:
                for cell, faulty in enumerate(glance.faulty):
                    if faulty:
                        line.put(2 + at + cell, "│", self.palette.style("coral", on), 1)
        return line

    def move(self, by: int) -> None:
        """Move the cursor."""
        if self.found is not None and self.found.shelved:
            self._cursor = min(max(self._cursor + by, 0), len(self.found.shelved) - 1)
            self.repaint()

    @property
    def chosen(self) -> Path | None:
        """The folder of the row in hand, if it can be opened."""
        if self.found is None or not self.found.shelved or self.found.shelved[self._cursor].problem:
            return None
        return self.found.shelved[self._cursor].folder

    def on_click(self, event: events.Click) -> None:
        """Pick; a second click opens."""
        row = self._top + event.y - 3
        if self.found is not None and 0 <= row < len(self.found.shelved):
            self._cursor = row
            self.repaint()
            if event.chain == 2 and self.chosen is not None:
                self.screen.dismiss(Chosen(self.chosen))


class Library(Screen[Chosen | None]):
    """The screen."""

    BINDINGS = [
        Binding("up,k", "move(-1)", show=False),
        Binding("down,j", "move(1)", show=False),
        Binding("pageup", "move(-10)", show=False),
        Binding("pagedown", "move(10)", show=False),
        Binding("home", "move(-1000000)", show=False),
        Binding("end", "move(1000000)", show=False),
        Binding("enter", "open", show=False),
        Binding("i", "do('import')", show=False),
        Binding("r", "do('record')", show=False),
        Binding("d", "do('demo')", show=False),
        Binding("q,escape", "do('')", show=False),
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
        from keel.app.dialogs.beside import look_beside
        from keel.store.library import home, shelf

        worker = get_current_worker()
        found = Found(shelf(), str(home()), look_beside(Path.cwd()))
        self.app.call_from_thread(self._show, found)
        for one in found.shelved:
            if worker.is_cancelled:
                return
            if not one.problem:
                found.overviews[one.folder] = _glance(one.folder)
                self.app.call_from_thread(self._show, found)

    def _show(self, found: Found) -> None:
        for view in self.query(LibraryList):
            view.found = found
            view.repaint()

    def action_move(self, by: int) -> None:
        """Move the cursor."""
        self.query_one(LibraryList).move(by)

    def action_open(self) -> None:
        """Open what is in hand."""
        chosen = self.query_one(LibraryList).chosen
        if chosen is not None:
            self.dismiss(Chosen(chosen))

    def action_do(self, what: str) -> None:
        """Something else than opening one; nothing is leaving."""
        self.dismiss(Chosen(do=what))


def _glance(folder: Path) -> Overview:
    """A recording at a glance; one that cannot be read any more shows nothing."""
    from keel.errors import KeelError
    from keel.measure.overview import Overview, overview
    from keel.store.recording import Recording

    try:
        return overview(Recording(folder).snapshot(), CELLS)
    except KeelError:
        return Overview((), (), 0, ())
