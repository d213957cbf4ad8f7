"""Before a delimited text is imported: its columns as they lie, the frames as they would be read, and keys to correct
how it is taken."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from threading import Thread
from typing import Any, ClassVar

from textual import events
from textual.app import App, ComposeResult
from textual.binding import Binding
from textual.screen import Screen

from keel.app.dialogs.file_columns import CELL, LINES, Column, first_shown, paint_columns, paint_keys, paint_title
from keel.app.paint.canvas import Line, Sheet
from keel.app.paint.palette import DARK, LIGHT, Palette
from keel.formats.frame_lines import text_lines, text_titles
from keel.formats.layout import ROLES, SEPARATORS, UNITS, Layout, guess, remember, remembered, split
from keel.formats.preview import HEAD_BYTES, first_frames

WORDS = {"-": "passed over", "len": "length", "dir": "direction", "ext": "29-bit?"}
KEYS = (
    ("← →", "column"),
    ("↑ ↓", "what it holds"),
    ("s", "separator"),
    ("h", "header"),
    ("u", "time unit"),
    ("i", "ids hex or decimal"),
    ("p", "payload"),
    ("enter", "import"),
    ("esc", "leave"),
)


class Preview(Sheet):
    """The view."""

    def __init__(self, path: Path, layout: Layout, head: bytes) -> None:
        super().__init__(id="preview")
        self.path, self.taken, self.column = path, layout, 0
        self._lines = head.decode("utf-8-sig", "replace").splitlines()[:LINES]

    @property
    def _cells(self) -> list[list[str]]:
        return [split(line, self.taken) for line in self._lines]

    @property
    def count(self) -> int:
        """How many columns there are."""
        return max(max((len(row) for row in self._cells), default=1), len(self.taken.columns))

    def role(self, column: int) -> str:
        """What a column holds."""
        roles = self.taken.columns
        if column < len(roles):
            return roles[column]
        return "byte" if roles and roles[-1] == "byte" else "-"

    def paint(self, width: int, height: int) -> list[Line]:
        """Columns above, frames below."""
        style = self.palette.style
        lines = [self.line(width) for _ in range(height)]
        paint_title(self, lines, "import ", self.path.name)
        lines[2].put(2, "as the file has it; what each column holds stands above it", style("dim"))
        roles = [self.role(place) for place in range(self.count)]
        above = self.taken.skip + self.taken.header
        columns = [Column(WORDS.get(role, role), role != "-") for role in roles]
        paint_columns(self, lines, columns, self._cells, above, self.column)
        below = 6 + LINES
        lines[below].put(2, "as it would be read", style("dim"))
        for i, (text, role) in enumerate(self._read(height - below - 6)):
            lines[below + 1 + i].put(2, text, style(role), width - 3)
        layout = self.taken
        ids, payload = ("hex" if is_hex else "decimal" for is_hex in (layout.hex_ids, layout.hex_payload))
        header = "header" if layout.header else "no header"
        said = f"{layout.separator}-separated · {header} · time in {layout.unit} · ids {ids} · payload {payload}"
        lines[-3].put(2, said, style("slate"))
        paint_keys(self, lines, KEYS)
        return lines

    def _read(self, most: int) -> list[tuple[str, str]]:
        problem = self.taken.problem()
        if problem:
            return [(f"nothing yet: {problem}; choose a column with ← → and what it holds with ↑ ↓", "coral")]
        batch, account = first_frames(self.path, self.taken, max(most, 1))
        start = int(batch.time[0]) if len(batch) else 0
        shown = [(line, "text") for line in text_lines(batch, account.bus_names, start, {})]
        shown[:0] = [(text_titles(account.bus_names), "dim")] if shown else []
        skipped = [(sentence, "coral") for sentence in account.sentences()]
        return (shown or [("no line can be read so", "coral")])[: max(most - len(skipped), 1)] + skipped

    def change(self, **to: Any) -> None:
        """Take the text otherwise."""
        self.taken = replace(self.taken, **to)
        self.repaint()

    def turn_role(self, by: int) -> None:
        """The next thing the column in hand could hold; no two hold the same, bytes apart."""
        roles = [self.role(i) for i in range(self.count)]
        role = ROLES[(ROLES.index(roles[self.column]) + by) % len(ROLES)]
        for i, other in enumerate(roles):
            if other == role and role not in ("-", "byte"):
                roles[i] = "-"
        roles[self.column] = role
        self.change(columns=tuple(roles))

    def on_click(self, event: events.Click) -> None:
        """A click takes a column in hand, one on what it holds turns that."""
        place = first_shown(self.column, self.size.width) + (event.x - 2) // CELL
        if 3 <= event.y < 5 + LINES and 0 <= place < self.count:
            again, self.column = place == self.column, place
            if event.y == 3 and again:
                self.turn_role(1)
            self.repaint()


NOTHING = Layout("", ())
"""Given back by a preview that was left."""


class ImportPreview(Screen[Layout | None]):
    """Asks how a delimited text lies; gives the layout back, or `NOTHING`."""

    DEFAULT_CSS = "ImportPreview { background: $background; }"
    BINDINGS: ClassVar[list[Any]] = [
        Binding(key, f"key('{key}')", show=False, priority=True)
        for key in ("left", "right", "up", "down", "s", "h", "u", "i", "p", "enter", "escape", "q")
    ]

    def __init__(self, path: Path, head: bytes) -> None:
        """``head`` are the first bytes of the file."""
        super().__init__()
        self._head = head
        layout = remembered(head) or guess(head) or Layout("comma", ("time", "id", "payload"))
        self.preview = Preview(path, layout, head)

    def compose(self) -> ComposeResult:
        """The view."""
        yield self.preview

    def action_key(self, key: str) -> None:
        """A key was pressed."""
        view, layout = self.preview, self.preview.taken
        if key in ("left", "right"):
            view.column = min(max(view.column + (1 if key == "right" else -1), 0), view.count - 1)
            view.repaint()
        elif key in ("up", "down"):
            view.turn_role(1 if key == "down" else -1)
        elif key == "s":
            names = list(SEPARATORS)
            view.change(separator=names[(names.index(layout.separator) + 1) % len(names)])
        elif key == "h":
            view.change(header=not layout.header)
        elif key == "u":
            view.change(unit=UNITS[(UNITS.index(layout.unit) + 1) % len(UNITS)])
        elif key == "i":
            view.change(hex_ids=not layout.hex_ids)
        elif key == "p":
            view.change(hex_payload=not layout.hex_payload)
        elif key == "enter" and not layout.problem():
            # Written behind the screen, and before the app may end.
            thread = Thread(target=remember, args=(self._head, layout), name="layout")
            thread.start()
            self.dismiss(layout)
        elif key in ("escape", "q"):
            self.dismiss(NOTHING)


class PreviewApp(App[Layout | None]):
    """The same by itself, for a command; gives the layout back, or None."""

    TITLE = "Keel"
    ENABLE_COMMAND_PALETTE = False

    def __init__(self, path: Path) -> None:
        super().__init__()
        self.palette: Palette = DARK
        with path.open("rb") as file:
            self._screen = ImportPreview(path, file.read(HEAD_BYTES))

    @property
    def preview(self) -> Preview:
        """The view."""
        return self._screen.preview

    def on_mount(self) -> None:
        """The colours, and the screen."""
        for palette in (DARK, LIGHT):
            self.register_theme(palette.theme())
        self.theme = self.palette.name
        self.push_screen(self._screen, self._taken)

    def _taken(self, layout: Layout | None) -> None:
        self.exit(None if layout is None or layout == NOTHING else layout)
