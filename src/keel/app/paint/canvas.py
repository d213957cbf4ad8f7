"""Rows of cells to write on. Every view is painted through these, so nothing from outside reaches the terminal
as markup or control characters, and nothing runs over its column."""

from __future__ import annotations

from rich.cells import cell_len
from rich.segment import Segment
from rich.style import Style
from textual.app import RenderResult
from textual.events import Event
from textual.strip import Strip
from textual.widget import Widget

from keel.app.paint.palette import DARK, Palette
from keel.app.shared.trouble import sentence_of
from keel.model.safe_text import plain

SINGLE = frozenset(
    {chr(c) for c in range(32, 127)} | {chr(c) for c in range(0x2800, 0x2900)} | {chr(c) for c in range(0x2580, 0x25A0)}
) | frozenset("…·±∿↻Σ⚐▪▫⋔¶—–─━│┃╰╯╭╮┤└┴┬╵⚑✕●○■▲▼↑↓←→°µ×−⌫“”")
"""Characters that are known to be printable and one cell wide."""


class Line:
    """One row of cells."""

    def __init__(self, width: int, style: Style) -> None:
        self.width = max(width, 0)
        self._cells = [" "] * self.width
        self._styles = [style] * self.width

    def put(self, at: int, text: str, style: Style, width: int | None = None, right: bool = False) -> int:
        """Write text; returns where it ends.

        Args:
            at: Its first cell; cells left of 0 are cut.
            text: Any text; control characters are shown harmlessly.
            style: How.
            width: Cut to so many cells, with an ellipsis, and end after them.
            right: Push it to the right of the ``width``.
        """
        simple = (text.isascii() and text.isprintable()) or set(text) <= SINGLE
        if not simple:
            text = plain(text, 400)
        if width is not None:
            long = len(text) if simple else cell_len(text)
            if long > width:
                text = text[: max(width - 1, 0)] + "…" if width > 0 else ""
                long = len(text) if simple else cell_len(text)
            start = at + (width - long if right else 0)
            end = at + width
        else:
            start, end = at, self.width
        if simple:
            # One cell a character: whole slices at a time.
            stop = min(start + len(text), end, self.width)
            cut = max(-start, 0)
            if stop > start + cut:
                self._cells[start + cut : stop] = text[cut : stop - start]
                self._styles[start + cut : stop] = [style] * (stop - start - cut)
            return at + width if width is not None else max(stop, at)
        for char in text:
            size = cell_len(char)
            if size == 0:
                continue
            if start >= min(end, self.width) or start + size > self.width:
                break
            if start >= 0:
                self._cells[start], self._styles[start] = char, style
                if size == 2:
                    self._cells[start + 1], self._styles[start + 1] = "", style
            start += size
        return at + width if width is not None else start

    def ground(self, style: Style, start: int = 0, end: int | None = None) -> None:
        """Give cells another ground, keeping what is written on them."""
        ground = Style(bgcolor=style.bgcolor)
        made: dict[int, Style] = {}
        for i in range(max(start, 0), min(self.width if end is None else end, self.width)):
            old = self._styles[i]
            if id(old) not in made:
                made[id(old)] = old + ground
            self._styles[i] = made[id(old)]

    def ink(self, at: int, char: str, style: Style) -> None:
        """Write one cell and leave its ground as it is."""
        if 0 <= at < self.width:
            self._cells[at] = char
            self._styles[at] = style + Style(bgcolor=self._styles[at].bgcolor)

    def inks(self, at: int, text: str, style: Style) -> None:
        """Write cells that are no blanks and leave their ground as it is."""
        made: dict[int, Style] = {}
        for place, char in enumerate(text[: max(self.width - at, 0)], at):
            if char != " " and place >= 0:
                old = self._styles[place]
                if id(old) not in made:
                    made[id(old)] = style + Style(bgcolor=old.bgcolor)
                self._cells[place] = char
                self._styles[place] = made[id(old)]

    def fade(self, style: Style) -> None:
        """Write everything in one colour, on the ground it has."""
        made: dict[Style, Style] = {}
        for i, old in enumerate(self._styles):
            if old not in made:
                made[old] = Style(color=style.color, bgcolor=old.bgcolor)
            self._styles[i] = made[old]

    def paste(self, at: int, other: Line) -> None:
        """Lay another line over this one."""
        end = min(at + other.width, self.width)
        self._cells[at:end] = other._cells[: end - at]
        self._styles[at:end] = other._styles[: end - at]

    def strip(self) -> Strip:
        """The row as Textual paints it."""
        segments: list[Segment] = []
        start = 0
        for i in range(1, self.width + 1):
            if i == self.width or self._styles[i] is not self._styles[start]:
                segments.append(Segment("".join(self._cells[start:i]), self._styles[start]))
                start = i
        return Strip(segments, self.width)

    def text(self) -> str:
        """What is written, for tests."""
        return "".join(self._cells)


class Sheet(Widget):
    """A widget painted from lines, made anew when something changes and kept until then."""

    DEFAULT_CSS = "Sheet { height: 1fr; width: 1fr; }"

    def __init__(self, id: str | None = None) -> None:
        super().__init__(id=id)
        self._strips: list[Strip] | None = None
        self._painted: tuple[int, int, str] = (0, 0, "")

    @property
    def palette(self) -> Palette:
        """The colours in force."""
        return getattr(self.app, "palette", DARK)

    def paint(self, width: int, height: int) -> list[Line]:
        """The lines to show; fewer than ``height`` are filled up."""
        raise NotImplementedError

    def line(self, width: int, on: str = "ink") -> Line:
        """An empty line."""
        return Line(width, self.palette.style("text", on))

    def repaint(self) -> None:
        """Something changed: paint anew at the next chance."""
        self._strips = None
        self.refresh()

    async def on_event(self, event: Event) -> None:
        """A key or the mouse. What goes wrong then is said, and ends nothing."""
        try:
            await super().on_event(event)
        except Exception as error:
            self.notify(plain(sentence_of(error), 300), severity="error", markup=False)

    def render(self) -> RenderResult:
        """Unused: lines are rendered one by one."""
        return ""

    def render_line(self, y: int) -> Strip:
        """One painted row."""
        now = (self.size.width, self.size.height, self.palette.name)
        if self._strips is None or self._painted != now:
            try:
                lines = self.paint(self.size.width, self.size.height)
            except Exception as error:
                # What it shows may be gone or was cut meanwhile; the next picture is of what is left.
                lines = [self.line(self.size.width)]
                lines[0].put(2, f"✕ {plain(sentence_of(error), 300)}", self.palette.style("coral"))
            self._strips = [line.strip() for line in lines[: self.size.height]]
            self._painted = now
        if y < len(self._strips):
            return self._strips[y]
        return self.line(self.size.width).strip()
