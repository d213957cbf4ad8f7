"""Watch: who talks, and what just moved? One row per identifier, and the ribbon of the pick."""

from __future__ import annotations

from dataclasses import dataclass, replace

from textual import events
from textual.message import Message

from keel.app.desk.picture import Hush, Picture
from keel.app.paint.canvas import Line
from keel.app.paint.listed import Listed
from keel.app.paint.nothing import nothing_lines
from keel.app.paint.payload_cell import next_form
from keel.app.paint.ribbon import bytes_that_fit, ribbon, value_lines
from keel.app.paint.table import Column, fit, window
from keel.app.views.watch.roster import GROUPS, Heading, Range, Roster, arrange, range_of, terms_of
from keel.app.views.watch.row import FRESH_NS, heading_line, row_line
from keel.ask.narrowing import of_key_among
from keel.measure.cycles import heard_in
from keel.model.identity import key_words
from keel.model.settings import remember_setting, settings, words_of
from keel.model.span import Span

COLUMNS = (
    Column("bus", "bus", 4),
    Column("id", "identifier", 11, True),
    Column("name", "name", 16, drop=1),
    Column("frames", "frames", 9, True, drop=3),
    Column("rate", "rate /s", 8, True),
    Column("cycle", "cycle ms", 9, True, drop=2),
    Column("jitter", "jitter ms", 10, True, drop=4),
    Column("activity", "activity", 16, drop=6),
    Column("len", "len", 4, True),
    Column("payload", "payload now", 23),
    Column("moved", "moved", 9, True, drop=5),
    Column("faults", "faults", 7, True),
    Column("kept", "kept signals", 17, drop=7),
)
ALWAYS = ("id", "payload")
UPWARD = ("bus", "id", "name", "cycle", "payload")
RIBBON_ROWS = 7


class Watch(Listed):
    """The view."""

    @dataclass
    class Picked(Message):
        """A row was picked."""

        key: int

    @dataclass
    class Opened(Message):
        """A row is wanted as frames."""

        key: int

    @dataclass
    class Asked(Message):
        """A group is wanted as frames."""

        ask: str

    def __init__(self) -> None:
        super().__init__(id="watch")
        self.picture: Picture | None = None
        self.pick: int | None = None
        self.learning: int | None = None
        self._roster = Roster((), (), {})
        self._sort, self._reversed = "id", False
        self._group, self._ranges = "", list[Range]()
        self._drawing: int | None = None
        self._form = "hex"
        self._top = self._first_byte = 0
        self._heads: list[tuple[int, int, str]] = []
        self._hidden = set(words_of(settings("views").get("watch hides")))

    @property
    def _keys(self) -> tuple[int, ...]:
        return self._roster.keys

    def show(self, picture: Picture) -> None:
        """Show another moment."""
        self.picture = picture
        self._roster = arrange(picture, self._sort, self._reversed, self._group, self._ranges)
        if self.pick not in picture.census and self._keys:
            self.pick = self._keys[0]
        self.repaint()

    def paint(self, width: int, height: int) -> list[Line]:
        """Header, rows, ribbon."""
        picture = self.picture
        style = self.palette.style
        if picture is None or not picture.census:
            return nothing_lines(self.palette, width, picture)
        ribbon_rows = RIBBON_ROWS if height >= 18 else 0
        columns = self._columns(width)
        lines = [self._header(columns, width)]
        room = height - 1 - max(ribbon_rows, 1)
        rows = self._roster.rows
        cursor = rows.index(self.pick) if self.pick in rows else 0
        self._top = window(cursor, self._top, room, len(rows))
        if self._top == 1 and isinstance(rows[0], Heading):
            self._top = 0
        for row in rows[self._top : self._top + room]:
            if isinstance(row, Heading):
                lines.append(heading_line(self.palette, picture, row, columns, width))
            else:
                silent = self._roster.silent.get(row)
                lines.append(row_line(self.palette, picture, row, columns, width, row == self.pick, self._form, silent))
        while len(lines) < 1 + room:
            lines.append(self.line(width))
        if ribbon_rows and self.pick is not None and self.pick in picture.census:
            lines += self._ribbon(picture, self.pick, width)
        else:
            lines.append(self.line(width))
        below = len(rows) - self._top - room
        said = ([f"↓ {below} more"] if below > 0 else []) + self._said(picture)
        lines[1 + room].put(2, "   ".join(said), style("dim"), width - 3)
        return lines

    def _said(self, picture: Picture) -> list[str]:
        """What counts now besides the ask, in words."""
        said = []
        zero = picture.whole.start
        if picture.wish.baseline is not None:
            said.append(f"counting since {(picture.wish.baseline - zero) / 1e9:.1f} s")
        if picture.hush is not None and picture.wish.hush is not None:
            said.append(hush_words(picture.hush, picture.wish.hush, picture.snapshot.live))
        elif self.learning is not None:
            learnt = max(picture.snapshot.span.end - self.learning, 0)
            said.append(f"learning what moves by itself, {learnt / 1e9:.1f} s so far; u ends it")
        if self._drawing is not None:
            said.append(f"a group from {key_words(self._drawing)} to …: G at its other end")
        return said

    def _columns(self, width: int) -> list[tuple[Column, int]]:
        kept = self.picture is not None and any(s.found for m in self.picture.messages.values() for s in m.signals)
        wanted = tuple(c for c in COLUMNS if c.name not in self._hidden and (kept or c.name != "kept"))
        placed = fit(wanted, width - 3)
        spare = width - 3 - placed[-1][1] - placed[-1][0].width
        if spare <= 0:
            return placed
        # What is left over goes to the kept signals if they are there, and to payloads that are longer than their room.
        long = max((len(self.picture.census[key].payload) for key in self._keys), default=8) if self.picture else 8
        cells = {"hex": 3, "bits": 9, "decimal": 4, "text": 1}[self._form]
        grown, shift = [], 0
        last = placed[-1][0].name == "kept"
        for column, at in placed:
            extra = 0
            if column.name == "payload":
                extra = min(spare // 2 if last else spare, max(long * cells - column.width, 0))
            elif column.name == "kept":
                extra = spare - shift
            grown.append((replace(column, width=column.width + extra), at + shift))
            shift += extra
        return grown

    def _header(self, columns: list[tuple[Column, int]], width: int) -> Line:
        line = self.line(width)
        self._heads = []
        for column, at in columns:
            chosen = column.name == self._sort
            upward = (column.name in UPWARD) != self._reversed
            title = f"payload now, {self._form}" if column.name == "payload" else column.title
            title += ("▲" if upward else "▼") if chosen else ""
            style = self.palette.style("brass" if chosen else "dim")
            line.put(2 + at, title, style, column.width, column.right)
            self._heads.append((2 + at, 2 + at + column.width, column.name))
        return line

    def _ribbon(self, picture: Picture, key: int, width: int) -> list[Line]:
        style = self.palette.style
        tally = picture.census[key]
        message = picture.messages.get(key)
        title = self.line(width)
        title.put(0, "─" * width, style("line"))
        at = title.put(2, f" {picture.name(key)} ", style("sea", bold=True))
        at = title.put(at, f"{key_words(key)} ", style("strong", bold=True))
        heard = heard_in(tally, picture.lens)
        if heard.start != picture.lens.start:
            at = title.put(at, f"new from {(heard.start - picture.whole.start) / 1e9:.1f} s ", style("brass"))
        fit_bytes = bytes_that_fit(width)
        most = max(len(tally.payload) - fit_bytes, 0)
        self._first_byte = min(self._first_byte, most)
        if most:
            last = self._first_byte + fit_bytes - 1
            title.put(at, f"bytes {self._first_byte}–{last} of {len(tally.payload)}, ← → ", style("dim"))
        lines = [self.line(width), title]
        lines += ribbon(self.palette, width, tally.payload, message, self._fresh(picture, key), self._first_byte)
        if message is not None and message.signals:
            lines += value_lines(self.palette, width, tally.payload, message, 2)
        else:
            hint = self.line(width)
            text = "no fields are known: flag marks with m while you work the device, then 4 Hunt"
            hint.put(1, text, style("dim"))
            lines.append(hint)
        return lines

    def _fresh(self, picture: Picture, key: int) -> bytes:
        """For each byte the bits that light up: those that react, or all of a byte that changed just now."""
        tally = picture.census[key]
        if picture.hush is not None:
            flips = picture.hush.reacting.get(key)
            if flips is None:
                return b""
            return bytes(sum(1 << b for b in range(8) if flips[8 * n + b]) for n in range(len(flips) // 8))
        age = picture.lens.end - FRESH_NS[1]
        return bytes(0xFF if int(at) > age else 0 for at in tally.changed_at[: len(tally.payload)])

    def terms(self) -> list[str]:
        """What the pick says of itself."""
        if self.picture is None or self.pick not in self.picture.census or self.pick is None:
            return []
        return terms_of(self.picture, self.pick, ask_for(self.picture, self.pick))

    # What people do here.

    @property
    def page_rows(self) -> int:
        """How many rows a page is."""
        return max(self.size.height - RIBBON_ROWS - 2, 1)

    def move(self, by: int) -> None:
        """Move the pick."""
        if not self._keys:
            return
        at = self._keys.index(self.pick) if self.pick in self._keys else 0
        key = self._keys[min(max(at + by, 0), len(self._keys) - 1)]
        if key != self.pick:
            self.post_message(self.Picked(key))

    def do_left(self) -> None:
        """The ribbon from an earlier byte."""
        self._first_byte = max(self._first_byte - 1, 0)
        self.repaint()

    def do_right(self) -> None:
        """The ribbon from a later byte."""
        self._first_byte += 1
        self.repaint()

    def do_payload_form(self) -> None:
        """Hex, bits, decimal, text."""
        self._form = next_form(self._form)
        self.repaint()

    def do_sort(self) -> None:
        """Sort by the next column that is shown."""
        shown = [name for _, _, name in self._heads if name != "kept"]
        at = shown.index(self._sort) if self._sort in shown else -1
        self._sort_by(shown[(at + 1) % len(shown)] if shown else "id")

    def do_reverse(self) -> None:
        """Turn the order round."""
        self._sort_by(self._sort)

    def _sort_by(self, name: str) -> None:
        self._reversed = not self._reversed if name == self._sort else False
        self._sort = name
        self._anew()

    def _anew(self) -> None:
        if self.picture is not None:
            self.show(self.picture)

    def do_group(self) -> None:
        """The next way to group; that of drawn groups only if one was drawn."""
        ways = [way for way in GROUPS if way != "identifiers" or self._ranges]
        self._group = ways[(ways.index(self._group) + 1) % len(ways)] if self._group in ways else ""
        self._anew()

    def do_draw_group(self) -> None:
        """Begin a group at this row, or end it here."""
        if self.pick is None:
            return
        if self._drawing is None:
            self._drawing = self.pick
        else:
            self._ranges.append(range_of(self._drawing, self.pick))
            self._drawing, self._group = None, "identifiers"
        self._anew()

    def column_choices(self) -> list[tuple[str, str, bool]]:
        """Name, title and whether it is shown, of each column that may be hidden."""
        return [(c.name, c.title, c.name not in self._hidden) for c in COLUMNS if c.name not in ALWAYS]

    def toggle_column(self, name: str) -> None:
        """Show or hide a column; remembered."""
        self._hidden ^= {name}
        remember_setting("views", "watch hides", sorted(self._hidden))
        self.repaint()

    def do_open_row(self) -> None:
        """The pick as frames."""
        if self.pick is not None and self.picture is not None and self.pick in self.picture.census:
            self.post_message(self.Opened(self.pick))

    def on_click(self, event: events.Click) -> None:
        """A header sorts, a row is picked, a second click opens it; that of a group opens the group."""
        if event.y == 0:
            for start, end, name in self._heads:
                if start <= event.x < end and name != "kept":
                    self._sort_by(name)
            return
        at = self._top + event.y - 1
        room = self.size.height - 1 - (RIBBON_ROWS if self.size.height >= 18 else 1)
        if event.y > room or at >= len(self._roster.rows):
            return
        row = self._roster.rows[at]
        if isinstance(row, Heading):
            if event.chain == 2 and row.ask:
                self.post_message(self.Asked(row.ask))
            return
        self.post_message(self.Picked(row))
        if event.chain == 2:
            self.post_message(self.Opened(row))

    def on_mouse_scroll_down(self, event: events.MouseScrollDown) -> None:
        """The wheel moves the pick."""
        self.move(3)

    def on_mouse_scroll_up(self, event: events.MouseScrollUp) -> None:
        """The wheel moves the pick."""
        self.move(-3)


def hush_words(hush: Hush, learnt: Span, live: bool) -> str:
    """What is hushed, how long it was learnt, and how far that can be trusted."""
    text = f"learnt for {learnt.seconds:.1f} s what moves by itself"
    if not hush.complete:
        return f"{text}: looking at it…"
    count = len(hush.reacting)
    text += "; 1 identifier reacts" if count == 1 else f"; {count} identifiers react"
    if hush.slow:
        text += f", {len(hush.slow)} of them so seldom sent that they may move by themselves"
    return text + ("; U learns on" if live else "")


def ask_for(picture: Picture, key: int) -> str:
    """The ask that leaves one identifier, whatever else is asked."""
    return str(of_key_among(key, picture.bus_name(key), picture.keys))
