"""Frames: what happened, in order? The frames that the ask and the lens leave, and the anatomy of one."""

from __future__ import annotations

from dataclasses import dataclass, replace

from textual import events
from textual.message import Message

from keel.app.desk.frame_pages import Page, fetch, next_fault, recent, terms_of
from keel.app.desk.picture import Picture
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.listed import Listed
from keel.app.paint.nothing import nothing_lines
from keel.app.paint.payload_cell import next_form, write_payload
from keel.app.paint.ribbon import kept_words
from keel.app.paint.table import Column, fit, grow
from keel.app.views.frames.anatomy import Subject, anatomy
from keel.model.faults import Fault
from keel.model.frames import Flag
from keel.model.identity import format_ident

ANATOMY_WIDTH = 49
ANATOMY_FROM = 130
TIMES = ("elapsed", "clock", "zeroed")
"""The ways to say when a frame was; the one chosen stays, the others drop first."""
COLUMNS = (
    Column("number", "number", 9, True, drop=2),
    Column("clock", "clock UTC", 15, True, drop=9),
    Column("elapsed", "elapsed s", 12, True, drop=9),
    Column("zeroed", "from zero", 15, True, drop=9),
    Column("shown", "since shown", 11, True),
    Column("same", "same id", 11, True),
    Column("bus", "bus", 3, drop=3),
    Column("id", "identifier", 10, True),
    Column("name", "name", 14, drop=6),
    Column("dir", "dir", 3, drop=7),
    Column("len", "len", 3, True, drop=1),
    Column("payload", "payload", 23),
    Column("kept", "kept signals", 16, drop=5),
)


class Frames(Listed):
    """The view."""

    @dataclass
    class Picked(Message):
        """A frame was taken in hand."""

        key: int
        number: int

    def __init__(self) -> None:
        super().__init__(id="frames")
        self.picture: Picture | None = None
        self.following = True
        self.cursor = 0
        self._top = 0
        self._seen = 0
        self._form = "hex"
        self._time = "elapsed"
        self.zero: int | None = None
        self._page: tuple[object, Page] | None = None
        self._goal: int | None = None
        self._noted: tuple[object, dict[int, str]] | None = None
        self._shift = 0

    @property
    def rows(self) -> int:
        """Frames that fit."""
        return max(self.size.height - 1, 1)

    def show(self, picture: Picture) -> None:
        """Show another moment: follow, or stay where we are although more came."""
        old, self.picture = self.picture, picture
        if old is None and not picture.snapshot.live:
            # Nothing comes any more: begin at the beginning.
            self.following = False
        count = len(picture.matches)
        asked_anew = old is None or (old.wish.ask, old.wish.lens) != (picture.wish.ask, picture.wish.lens)
        if self._goal is not None:
            self.go_to(self._goal)
        elif asked_anew and not self.following and old is not None and len(old.matches) > self.cursor:
            number = int(old.matches.numbers(self.cursor, self.cursor + 1)[0])
            self.go_to(number)
        if self.following:
            self.cursor = max(count - 1, 0)
            self._top = max(count - self.rows, 0)
            self._seen = count
        elif asked_anew:
            self._seen = count
        self.cursor = min(self.cursor, max(count - 1, 0))
        self._keep_in_sight()
        self.repaint()

    def go_to(self, number: int) -> None:
        """Take a frame in hand by its number, or the nearest after it that matches."""
        self._goal = number
        picture = self.picture
        if picture is None:
            return
        self._goal = None
        self.following = False
        self.cursor = min(picture.matches.rank(number), max(len(picture.matches) - 1, 0))
        self._top = max(self.cursor - self.rows // 2, 0)
        self._seen = len(picture.matches)
        self._keep_in_sight()
        self.repaint()

    def expect(self, number: int) -> None:
        """Go to a frame as soon as the picture of a changed ask is there."""
        self.following = False
        self._goal = number

    @property
    def number_in_hand(self) -> int | None:
        """The number of the frame in hand."""
        if self.picture is None or not len(self.picture.matches):
            return None
        return int(self.picture.matches.numbers(self.cursor, self.cursor + 1)[0])

    def _keep_in_sight(self) -> None:
        count = len(self.picture.matches) if self.picture else 0
        if self.cursor < self._top:
            self._top = self.cursor
        elif self.cursor >= self._top + self.rows:
            self._top = self.cursor - self.rows + 1
        self._top = max(min(self._top, count - self.rows), 0)

    def page(self) -> Page:
        """The frames on the screen."""
        assert self.picture is not None
        name = (id(self.picture.matches), self._top, self.rows)
        if self._page is None or self._page[0] != name:
            self._page = (name, fetch(self.picture, self._top, self.rows))
        return self._page[1]

    def paint(self, width: int, height: int) -> list[Line]:
        """Header and rows, and beside them the anatomy."""
        picture = self.picture
        style = self.palette.style
        if picture is None or not len(picture.matches):
            return nothing_lines(self.palette, width, picture)
        self._keep_in_sight()
        aside = ANATOMY_WIDTH if width >= ANATOMY_FROM else 0
        if aside and width > 190:
            aside = ANATOMY_WIDTH + 22
        table = width - aside
        page = self.page()
        columns = self._columns(table, page)
        lines = [self._header(columns, width)]
        for i in range(len(page.numbers)):
            lines.append(self._row(picture, page, i, columns, width, table))
        while len(lines) < height:
            lines.append(self.line(width))
        if aside:
            self._beside(lines, page, picture, table, aside, height)
        newer = len(picture.matches) - self._seen
        if newer > 0 and not self.following:
            text = f" ↓ {words.count(newer)} newer · space follows "
            lines[-1].put(table - len(text) - 3, text, style("ink", "brass", True))
        return lines

    def _columns(self, width: int, page: Page) -> list[tuple[Column, int]]:
        kept = self.picture is not None and any(
            s.found
            for k in set(page.batch.keys().tolist())
            for m in [self.picture.messages.get(k)]
            if m
            for s in m.signals
        )
        # Bits need the room.
        without = {"name" if self._form == "bits" else "", "" if kept else "kept"}
        wanted = tuple(self._sized(c) for c in COLUMNS if c.name not in without)
        placed = fit(wanted, width - 4)
        spare = width - 4 - placed[-1][1] - placed[-1][0].width
        if spare > 0:
            placed = grow(placed, "payload", min(spare, 170))
        return placed

    def _sized(self, column: Column) -> Column:
        """A column as it is wanted now: the chosen time stays, numbers have room for all their digits."""
        if column.name == self._time:
            return replace(column, drop=0)
        if column.name == "number" and self.picture is not None:
            return replace(column, width=max(column.width, len(words.count(self.picture.snapshot.frames))))
        return column

    def _header(self, columns: list[tuple[Column, int]], width: int) -> Line:
        line = self.line(width)
        for column, at in columns:
            title = f"payload, {self._form}" if column.name == "payload" else column.title
            line.put(2 + at, title, self.palette.style("dim"), column.width, column.right)
        return line

    def _row(
        self, picture: Picture, page: Page, i: int, columns: list[tuple[Column, int]], width: int, table: int
    ) -> Line:
        style = self.palette.style
        batch = page.batch
        picked = page.top + i == self.cursor
        on = "raised" if picked else "ink"
        line = self.line(width)
        if picked:
            line.ground(style("text", on), 0, table - 1)
        faults = int(batch.faults[i])
        if picked:
            line.put(0, "▌", style("brass", on))
        if faults:
            line.put(1, "✕", style("coral", on))
        elif int(page.numbers[i]) in self._comments(picture):
            line.put(1, "✎", style("brass", on))
        key = int(batch.keys()[i])
        time = int(batch.time[i])
        bus = int(batch.bus[i])
        flags = int(batch.flags[i])
        cells: dict[str, tuple[str, str]] = {
            "number": (words.count(int(page.numbers[i]) + 1), "dim"),
            "clock": (words.of_day(time), "text"),
            "elapsed": (f"{(time - picture.whole.start) / 1e9:.6f}", "text"),
            "zeroed": (f"{(time - (self.zero or picture.whole.start)) / 1e9:+.6f}", "text"),
            "shown": (words.step(int(page.since_shown[i])), "dim"),
            "same": (words.step(int(page.since_same[i])), "dim"),
            "bus": (f" {picture.snapshot.manifest.buses[bus].name}", self.palette.bus(bus)),
            "id": (format_ident(int(batch.form[i]), int(batch.ident[i])), "strong"),
            "name": (picture.name(key), "text" if key in picture.messages else "faint"),
            "dir": ("tx" if flags & Flag.TX else "rx", "dim"),
            "len": (str(len(batch.payload(i))), "dim"),
            "kept": (kept_words(batch.payload(i), picture.messages.get(key)), "sea"),
        }
        for column, at in columns:
            if column.name == "payload":
                self._payload(line, 2 + at, column.width, page, i, on)
                continue
            text, role = cells[column.name]
            line.put(2 + at, text, style(role, on, column.name == "id"), column.width, column.right)
        return line

    def _comments(self, picture: Picture) -> dict[int, str]:
        """The notes on frames by number; made anew only when they change."""
        kept = picture.snapshot.manifest.comments
        if self._noted is None or self._noted[0] is not kept:
            self._noted = (kept, {comment.number: comment.text for comment in kept})
        return self._noted[1]

    def _payload(self, line: Line, at: int, width: int, page: Page, i: int, on: str) -> None:
        style = self.palette.style
        batch = page.batch
        payload = batch.payload(i)
        faults = int(batch.faults[i])
        if faults:
            title = ", ".join(f.title for f in Fault if faults & f)
            line.put(at, f"{title}  {payload.hex(' ').upper()}", style("coral", on), width)
            return
        if int(batch.flags[i]) & Flag.REMOTE:
            line.put(at, f"remote, DLC {int(batch.dlc[i])}", style("dim", on), width)
            return
        before = page.before[i]

        def role(n: int) -> str:
            return "brass" if before is not None and before[n : n + 1] != payload[n : n + 1] else "text"

        write_payload(line, at, width, payload, self._form, role, self.palette, on, self._shift)

    def _beside(self, lines: list[Line], page: Page, picture: Picture, at: int, width: int, height: int) -> None:
        for line in lines:
            line.put(at - 1, "│", self.palette.style("line"))
        i = self.cursor - page.top
        if not 0 <= i < len(page.numbers):
            return
        number = int(page.numbers[i])
        note = self._comments(picture).get(number, "")
        subject = Subject(number, page.batch.slice(i, i + 1), page.before[i], *recent(picture, number), note)
        for row, line in enumerate(anatomy(self.palette, width - 2, height, subject, picture)[:height]):
            lines[row].paste(at + 1, line)

    def terms(self) -> list[str]:
        """What the frame in hand says of itself."""
        i = self.cursor - self.page().top if self.picture is not None and len(self.picture.matches) else -1
        return terms_of(self.picture, self.page().batch, i) if self.picture is not None and i >= 0 else []

    # What people do here.

    @property
    def page_rows(self) -> int:
        """How many rows a page is."""
        return self.rows

    def move(self, by: int) -> None:
        """Take another frame in hand; going back stops following."""
        picture = self.picture
        if picture is None or not len(picture.matches):
            return
        self._stop_following()
        self.cursor = min(max(self.cursor + by, 0), len(picture.matches) - 1)
        self._keep_in_sight()
        self.repaint()
        self._tell()

    def _stop_following(self) -> None:
        if self.following and self.picture is not None:
            self._seen = len(self.picture.matches)
        self.following = False

    def _tell(self) -> None:
        page = self.page()
        i = self.cursor - page.top
        if 0 <= i < len(page.numbers):
            self.post_message(self.Picked(int(page.batch.keys()[i]), int(page.numbers[i])))

    def do_follow(self) -> None:
        """Follow the newest, or stop."""
        if self.following:
            self._stop_following()
        else:
            self.following = True
            if self.picture is not None:
                self.show(self.picture)
        self.repaint()

    do_next_match, do_previous_match = Listed.do_down, Listed.do_up

    def do_left(self) -> None:
        """Earlier payload bytes."""
        self._shift = max(self._shift - 1, 0)
        self.repaint()

    def do_right(self) -> None:
        """Later payload bytes."""
        self._shift += 1
        self.repaint()

    def do_times(self) -> None:
        """Time as clock, elapsed, or from zero."""
        self._time = TIMES[(TIMES.index(self._time) + 1) % len(TIMES)]
        self.repaint()

    def do_payload_form(self) -> None:
        """Hex, bits, decimal, text."""
        self._form = next_form(self._form)
        self.repaint()

    def do_next_fault(self) -> None:
        """The next faulty frame among those shown."""
        self._to_fault(forward=True)

    def do_previous_fault(self) -> None:
        """The faulty frame before."""
        self._to_fault(forward=False)

    def _to_fault(self, forward: bool) -> None:
        picture, here = self.picture, self.number_in_hand
        if picture is None or here is None:
            return
        found = next_fault(picture, here, forward)
        if found is None:
            self.app.bell()
            self.notify(f"no faulty frame {'after' if forward else 'before'} this one", timeout=2)
            return
        self.go_to(found)
        self._tell()

    def on_click(self, event: events.Click) -> None:
        """Take the clicked frame in hand."""
        if event.y >= 1 and self.picture is not None and self._top + event.y - 1 < len(self.picture.matches):
            self.move(self._top + event.y - 1 - self.cursor)

    def on_mouse_scroll_down(self, event: events.MouseScrollDown) -> None:
        """Later frames."""
        self.move(3)

    def on_mouse_scroll_up(self, event: events.MouseScrollUp) -> None:
        """Earlier frames."""
        self.move(-3)
