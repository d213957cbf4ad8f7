"""Values: what do the devices say? A board of decoded signals, and plots of up to eight of them over the lens."""

from __future__ import annotations

from dataclasses import dataclass

from textual import events
from textual.message import Message

from keel.app.desk.picture import Picture, ValuesWish
from keel.app.paint.canvas import Line
from keel.app.paint.listed import Listed
from keel.app.paint.plots import COLOURS, GUTTER, Plot, Plots, cursor_words, draw_plots
from keel.app.paint.table import window
from keel.app.views.values.board import Row, board_row, heading, rows_of
from keel.measure.courses import Name

MOST_PLOTS = len(COLOURS)
STRIP = 7
"""Rows that a plot of its own likes to have."""


class Values(Listed):
    """The view."""

    @dataclass
    class Wanted(Message):
        """Something else is to be read: another page of the board, other plots, a moved cursor."""

    @dataclass
    class Picked(Message):
        """A signal's identifier was picked."""

        key: int

    @dataclass
    class Expect(Message):
        """What the device displays is to be typed."""

        row: Row
        moment: int

    @dataclass
    class ToPage(Message):
        """The signal in hand goes on a page of the user's own, or off it."""

        row: Row

    def __init__(self) -> None:
        super().__init__(id="values")
        self.picture: Picture | None = None
        self.chosen: list[Name] = []
        self.cursors: list[int] = []
        self.active = 0
        self.stacked = True
        self.page: str | None = None
        self.counters = False
        self._rows: list[Row] = []
        self._cursor = self._top = 0
        self._room = 12
        self._asked: ValuesWish | None = None

    def show(self, picture: Picture) -> None:
        """Show another moment."""
        self.picture = picture
        self._list(picture)
        self._ask()
        self.repaint()

    def _list(self, picture: Picture) -> None:
        in_hand = self.row.name if self.row else None
        self._rows = rows_of(picture, self.page, self.counters)
        names = [row.name for row in self._rows]
        if in_hand in names:
            self._cursor = names.index(in_hand)
        self._cursor = min(max(self._cursor, 0), max(len(self._rows) - 1, 0))
        if self.row is not None and self.row.name is None:
            self._step(1)

    @property
    def row(self) -> Row | None:
        """The row in hand."""
        return self._rows[self._cursor] if self._cursor < len(self._rows) else None

    @property
    def plotted(self) -> list[Name]:
        """The signals that are drawn: those chosen, or the one in hand."""
        if self.chosen:
            return self.chosen
        return [self.row.name] if self.row and self.row.name else []

    def wish(self) -> ValuesWish:
        """What is to be read."""
        shown = self._rows[self._top : self._top + self._room]
        board = tuple(row.name for row in shown if row.name is not None)
        across = max(self.size.width - GUTTER - 1, 1)
        readings = self.picture.snapshot.manifest.readings if self.picture else []
        expected = {r.of: r.time for r in readings}
        moments = tuple(
            (row.name, expected[row.full]) for row in shown if row.name is not None and row.full in expected
        )
        return ValuesWish(board, tuple(self.plotted), across * 2, tuple(self.cursors), moments)

    def _ask(self) -> None:
        """Have read what is shown now, if that is something else than before."""
        wish = self.wish()
        if wish != self._asked:
            self._asked = wish
            self.post_message(self.Wanted())

    # Painting.

    def paint(self, width: int, height: int) -> list[Line]:
        """Title, board, plots."""
        picture = self.picture
        if picture is None:
            return []
        if not self._rows:
            return self._empty(picture, width)
        plots = self._plots(picture)
        strips = len(plots) if self.stacked else 1 + len(plots) / 4
        below = min(max(int(strips * STRIP) + 2, 10), height - 9) if height >= 22 and plots else 0
        below = max(below, height - 3 - len(self._rows)) if below else 0
        self._room = max(height - 2 - below, 1)
        self._top = window(self._cursor, self._top, self._room, len(self._rows))
        lines = [self._title(picture, width), heading(self.palette, width)]
        end = picture.lens.end
        for i in range(self._top, min(self._top + self._room, len(self._rows))):
            lines.append(self._line(picture, self._rows[i], i == self._cursor, width, end))
        while len(lines) < height - below:
            lines.append(self.line(width))
        if below:
            what = Plots(plots, self.cursors, self.active, picture.whole.start, self.stacked)
            lines += draw_plots(self.palette, width, below, what)
        return lines

    def _line(self, picture: Picture, row: Row, picked: bool, width: int, end: int) -> Line:
        if row.name is None:
            line = self.line(width, "raised" if picked else "ink")
            line.put(2, row.title, self.palette.style("sea", "raised" if picked else "ink"))
            return line
        course = picture.values.courses.get(row.name) if picture.values else None
        plotted = self.plotted
        colour = plotted.index(row.name) if row.name in plotted else None
        newest = picture.snapshot.span.end if picture.snapshot.live and not picture.wish.held else end
        expected = self._expected(picture, row)
        return board_row(self.palette, width, row, course, colour, picked, self.page is not None, newest, expected)

    def _expected(self, picture: Picture, row: Row) -> tuple[float, float | None] | None:
        """What was last expected of a signal, and the value it had then."""
        said = [r for r in picture.snapshot.manifest.readings if r.of == row.full]
        if not said or row.name is None or picture.values is None:
            return None
        last = said[-1]
        return last.value, picture.values.at.get((row.name, last.time))

    def _title(self, picture: Picture, width: int) -> Line:
        style = self.palette.style
        line = self.line(width)
        signals = sum(row.name is not None for row in self._rows)
        at = line.put(2, "what do the devices say?", style("strong", bold=True)) + 3
        by = f"page {self.page}" if self.page is not None else "by message"
        at = line.put(at, f"{signals} signals, {by}", style("dim")) + 3
        if self.cursors:
            line.put(at, cursor_words(self.cursors, picture.whole.start), style("brass"), max(width - at - 1, 0))
        elif len(self.chosen):
            line.put(at, f"{len(self.chosen)} of {MOST_PLOTS} plots", style("brass"))
        return line

    def _plots(self, picture: Picture) -> list[Plot]:
        shown = picture.values
        plots = []
        for name in self.plotted:
            envelope = shown.envelopes.get(name) if shown else None
            message = picture.messages.get(name[0])
            if shown is None or envelope is None or message is None:
                continue
            full = f"{message.name}.{name[1]}"
            said = [(r.time, r.value) for r in picture.snapshot.manifest.readings if r.of == full]
            at = [shown.at.get((name, cursor)) for cursor in self.cursors]
            plots.append(Plot(full, envelope.signal, envelope, said, at))
        return plots

    def _empty(self, picture: Picture, width: int) -> list[Line]:
        style = self.palette.style
        lines = [self.line(width) for _ in range(8)]
        if self.page is not None:
            lines[1].put(4, f"Nothing on page {self.page} is on the bus here.", style("strong", bold=True))
            lines[3].put(4, "g", style("brass", bold=True))
            lines[3].put(8, "shows the next page, or all messages again", style("text"))
            return lines
        lines[1].put(4, "No signal is known here.", style("strong", bold=True))
        texts: tuple[tuple[str, str], ...] = (
            ("D", "use a dictionary: a signal database (.dbc) or Keel's own form (.toml)"),
            ("4", "hunt for a field and keep it as a signal"),
            (
                "/",
                "or widen the ask: it leaves no frame of a known message"
                if picture.wish.ask
                else "ask for other frames",
            ),
        )
        for line, (key, text) in zip(lines[3:], texts, strict=False):
            line.put(4, key, style("brass", bold=True))
            line.put(8, text, style("text"))
        return lines

    # What people do here.

    def _step(self, by: int) -> None:
        """Move the cursor, past headings."""
        at = self._cursor + by
        while 0 <= at < len(self._rows) and self._rows[at].name is None:
            at += 1 if by > 0 else -1
        if 0 <= at < len(self._rows):
            self._cursor = at
        elif by > 1 or by < -1:
            order = range(len(self._rows) - 1, -1, -1) if by > 0 else range(len(self._rows))
            self._cursor = next((i for i in order if self._rows[i].name is not None), self._cursor)

    @property
    def page_rows(self) -> int:
        """How many rows a page is."""
        return self._room

    def move(self, by: int) -> None:
        """Take another signal in hand."""
        self._step(by)
        if self.row is not None and self.row.name is not None:
            self.post_message(self.Picked(self.row.name[0]))
        self._top = window(self._cursor, self._top, self._room, len(self._rows))
        self._ask()
        self.repaint()

    def do_plot(self) -> None:
        """Draw the signal in hand too, or no longer."""
        name = self.row.name if self.row else None
        if name is None:
            return
        if name in self.chosen:
            self.chosen.remove(name)
        elif len(self.chosen) < MOST_PLOTS:
            self.chosen.append(name)
        else:
            self.notify(f"{MOST_PLOTS} plots are the most; enter on one of them takes it away", timeout=3)
        self._ask()
        self.repaint()

    def do_no_plots(self) -> None:
        """Draw only the signal in hand."""
        self.chosen.clear()
        self._ask()
        self.repaint()

    def do_stack(self) -> None:
        """Plots one above the other, or over each other."""
        self.stacked = not self.stacked
        self.repaint()

    def do_cursor(self) -> None:
        """A cursor, then the other, then none."""
        if self.picture is None:
            return
        lens = self.picture.lens
        if len(self.cursors) < 2:
            share = (1, 2)[len(self.cursors)]
            self.cursors.append(lens.start + (lens.end - lens.start) * share // 3)
            self.active = len(self.cursors) - 1
        else:
            self.cursors.clear()
        self._ask()
        self.repaint()

    def do_other_cursor(self) -> None:
        """The other cursor moves."""
        if len(self.cursors) == 2:
            self.active = 1 - self.active
            self.repaint()

    def _shift(self, by: int) -> None:
        if self.picture is None or not self.cursors:
            return
        lens = self.picture.lens
        step = max((lens.end - lens.start) // max(self.size.width - GUTTER - 1, 1), 1)
        moved = self.cursors[self.active] + by * step
        self.cursors[self.active] = min(max(moved, lens.start), lens.end - 1)
        self._ask()
        self.repaint()

    def do_left(self) -> None:
        """The cursor to earlier."""
        self._shift(-1)

    def do_right(self) -> None:
        """The cursor to later."""
        self._shift(1)

    def do_next_page(self) -> None:
        """By message, or the next of the user's pages."""
        if self.picture is None:
            return
        names: list[str | None] = [None, *(p.name for p in self.picture.snapshot.manifest.pages)]
        if len(names) == 1:
            self.notify("no page of your own yet: P puts the signal in hand on one", timeout=3)
            return
        self.page = names[(names.index(self.page) + 1) % len(names)] if self.page in names else None
        self._cursor = self._top = 0
        self.show(self.picture)

    def do_to_page(self) -> None:
        """Put the signal in hand on a page."""
        if self.row is not None and self.row.name is not None:
            self.post_message(self.ToPage(self.row))

    def do_counters(self) -> None:
        """Show counters, checksums and selectors too, or not."""
        self.counters = not self.counters
        if self.picture is not None:
            self.show(self.picture)

    def do_expect(self) -> None:
        """Type what the device displays."""
        if self.picture is None or self.row is None or self.row.name is None:
            return
        time = self.cursors[self.active] if self.cursors else self.picture.lens.end - 1
        self.post_message(self.Expect(self.row, time))

    def on_click(self, event: events.Click) -> None:
        """Take the clicked signal in hand, or move the cursor there."""
        row = self._top + event.y - 2
        if 2 <= event.y < 2 + self._room and row < len(self._rows):
            self.move(row - self._cursor)
            if event.chain == 2:
                self.do_plot()
        elif event.y >= 2 + self._room and self.picture is not None and event.x >= GUTTER:
            lens = self.picture.lens
            if not self.cursors:
                self.cursors.append(lens.start)
                self.active = 0
            across = max(self.size.width - GUTTER - 1, 1)
            share = min(max(event.x - GUTTER, 0), across)
            self.cursors[self.active] = min(lens.start + (lens.end - lens.start) * share // across, lens.end - 1)
            self._ask()
            self.repaint()
