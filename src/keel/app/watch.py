"""Watch: who talks, and what just moved? One row per identifier, and the ribbon of the pick."""

from __future__ import annotations

from dataclasses import dataclass

from textual import events
from textual.message import Message

from keel.app import words
from keel.app.paper import Line, Sheet
from keel.app.picture import Picture
from keel.app.ribbon import bytes_that_fit, kept_words, ribbon, value_lines
from keel.app.rows import Column, fit, window
from keel.app.strokes import spark
from keel.measure.census import Tally
from keel.model.identity import Form, key_words, unpack_key
from keel.model.units import NS_PER_S

COLUMNS = (
    Column("bus", "bus", 5),
    Column("id", "identifier", 11, True),
    Column("name", "name", 18, drop=1),
    Column("frames", "frames", 9, True, drop=3),
    Column("rate", "rate /s", 8, True),
    Column("cycle", "cycle ms", 9, True, drop=2),
    Column("jitter", "jitter ms", 10, True, drop=4),
    Column("activity", "activity", 16, drop=6),
    Column("len", "len", 3, True),
    Column("payload", "payload now", 23),
    Column("moved", "moved", 7, True, drop=5),
    Column("faults", "faults", 7, True),
    Column("kept", "kept signals", 17, drop=7),
)
SORTS = ("id", "name", "frames", "rate", "cycle", "jitter", "moved", "faults")
RIBBON_ROWS = 7
FRESH_NS = (400_000_000, 1_500_000_000)


class Watch(Sheet):
    """The view."""

    @dataclass
    class Picked(Message):
        """A row was picked."""

        key: int

    @dataclass
    class Opened(Message):
        """A row is wanted as frames."""

        key: int

    def __init__(self) -> None:
        super().__init__(id="watch")
        self.picture: Picture | None = None
        self.pick: int | None = None
        self._keys: list[int] = []
        self._sort, self._reversed = "id", False
        self._top = self._first_byte = 0
        self._heads: list[tuple[int, int, str]] = []

    def show(self, picture: Picture) -> None:
        """Show another moment."""
        self.picture = picture
        self._keys = self._sorted(picture)
        if self.pick not in picture.census and self._keys:
            self.pick = self._keys[0]
        self.repaint()

    def _sorted(self, picture: Picture) -> list[int]:
        census = picture.census

        def value(key: int) -> tuple[object, ...]:
            tally = census[key]
            worth: dict[str, object] = {
                "id": 0,
                "name": picture.name(key).lower(),
                "frames": -tally.frames,
                "rate": -tally.frames,
                "cycle": tally.cycle.mean,
                "jitter": -tally.cycle.deviation,
                "moved": -tally.changes,
                "faults": -tally.faults,
            }
            return worth[self._sort], key

        return sorted(census, key=value, reverse=self._reversed)

    def paint(self, width: int, height: int) -> list[Line]:
        """Header, rows, ribbon."""
        picture = self.picture
        style = self.palette.style
        if picture is None or not picture.census:
            return self._empty(width, picture)
        ribbon_rows = RIBBON_ROWS if height >= 18 else 0
        columns = self._columns(width)
        lines = [self._header(columns, width)]
        room = height - 1 - ribbon_rows
        cursor = self._keys.index(self.pick) if self.pick in self._keys else 0
        self._top = window(cursor, self._top, room, len(self._keys))
        for key in self._keys[self._top : self._top + room]:
            lines.append(self._row(picture, key, columns, width))
        below = len(self._keys) - self._top - room
        while len(lines) < 1 + room:
            lines.append(self.line(width))
        if ribbon_rows and self.pick is not None and self.pick in picture.census:
            lines += self._ribbon(picture, self.pick, width)
        if below > 0:
            lines[min(1 + room, height - 1)].put(2, f"↓ {below} more", style("dim"))
        return lines

    def _empty(self, width: int, picture: Picture | None) -> list[Line]:
        style = self.palette.style
        lines = [self.line(width) for _ in range(6)]
        if picture is None:
            lines[2].put(4, "Opening the recording…", style("dim"))
        elif picture.snapshot.frames:
            lines[2].put(4, "No frame meets the ask within the lens.", style("text"))
            lines[3].put(4, "⌫ takes the last change back, 0 looks at all of the recording.", style("dim"))
        else:
            lines[2].put(4, "No frames yet: they appear here as soon as the bus moves.", style("text"))
        return lines

    def _columns(self, width: int) -> list[tuple[Column, int]]:
        kept = self.picture is not None and any(s.note for m in self.picture.messages.values() for s in m.signals)
        placed = fit(tuple(c for c in COLUMNS if kept or c.name != "kept"), width - 3)
        used = placed[-1][1] + placed[-1][0].width
        spare = width - 3 - used
        if spare <= 0:
            return placed
        # What is left over goes to the kept signals if they are there, and to long payloads.
        grown, shift = [], 0
        last = placed[-1][0].name == "kept"
        for column, at in placed:
            extra = 0
            if column.name == "payload":
                extra = spare // 2 // 3 * 3 if last else min(spare // 3 * 3, 24)
            elif column.name == "kept":
                extra = spare - spare // 2 // 3 * 3
            grown.append((Column(column.name, column.title, column.width + extra, column.right), at + shift))
            shift += extra
        return grown

    def _header(self, columns: list[tuple[Column, int]], width: int) -> Line:
        line = self.line(width)
        self._heads = []
        for column, at in columns:
            chosen = column.name == self._sort
            upward = (column.name in ("id", "name", "cycle")) != self._reversed
            title = column.title + (("▲" if upward else "▼") if chosen else "")
            style = self.palette.style("brass" if chosen else "dim")
            line.put(2 + at, title, style, column.width, column.right)
            self._heads.append((2 + at, 2 + at + column.width, column.name))
        return line

    def _row(self, picture: Picture, key: int, columns: list[tuple[Column, int]], width: int) -> Line:
        style = self.palette.style
        picked = key == self.pick
        on = "raised" if picked else "ink"
        line = self.line(width, on)
        if picked:
            line.put(0, "▌", style("brass", on))
        tally = picture.census[key]
        bus = key >> 56
        seconds = max((picture.lens.end - picture.lens.start) / NS_PER_S, 1e-9)
        cycle = tally.cycle
        cells: dict[str, tuple[str, str]] = {
            "bus": (f" {picture.bus_name(key)}", self.palette.bus(bus)),
            "id": (key_words(key), "strong"),
            "name": (picture.name(key), "text" if key in picture.messages else "faint"),
            "frames": (words.count(tally.frames), "text"),
            "rate": (f"{_rate(tally, seconds):.1f}", "text"),
            "cycle": (words.cycle(cycle.mean) if cycle.count else "·", "text"),
            "jitter": self._jitter(tally),
            "activity": (
                spark(picture.activity[key], 1.5 * max(int(picture.activity[key].max()), 1))
                if key in picture.activity
                else "",
                self.palette.bus(bus),
            ),
            "len": (str(len(tally.payload)), "dim"),
            "moved": (words.count(tally.changes), "text" if tally.changes else "brass"),
            "faults": (f"✕ {tally.faults}", "coral") if tally.faults else ("·", "faint"),
            "kept": (kept_words(tally.payload, picture.messages.get(key)), "sea"),
        }
        for column, at in columns:
            if column.name == "payload":
                self._payload(line, 2 + at, column.width, tally, picture, on)
                continue
            text, role = cells[column.name]
            bold = column.name == "id"
            line.put(2 + at, text, style(role, on, bold), column.width, column.right)
        return line

    def _jitter(self, tally: Tally) -> tuple[str, str]:
        cycle = tally.cycle
        if cycle.count < 2:
            return "·", "faint"
        loud = cycle.deviation > 0.1 * max(cycle.mean, 1)
        return f"± {cycle.deviation / 1e6:.1f}", "brass" if loud else "dim"

    def _payload(self, line: Line, at: int, width: int, tally: Tally, picture: Picture, on: str) -> None:
        room = (width + 1) // 3
        long = len(tally.payload) > room
        shown = tally.payload[: room - 1 if long else room]
        now = picture.lens.end
        for i, byte in enumerate(shown):
            changed = int(tally.changed_at[i]) if i < len(tally.changed_at) else 0
            age = now - changed
            role = "dim"
            if changed and age < FRESH_NS[0]:
                role = "brass"
            elif changed and age < FRESH_NS[1]:
                role = "ember"
            elif changed:
                role = "text"
            line.put(at + 3 * i, f"{byte:02X}", self.palette.style(role, on, role == "brass"), 2)
        if long:
            line.put(at + 3 * len(shown), "…", self.palette.style("dim", on))

    def _ribbon(self, picture: Picture, key: int, width: int) -> list[Line]:
        style = self.palette.style
        tally = picture.census[key]
        message = picture.messages.get(key)
        title = self.line(width)
        title.put(0, "─" * width, style("line"))
        at = title.put(2, f" {picture.name(key)} ", style("sea", bold=True))
        at = title.put(at, f"{key_words(key)} ", style("strong", bold=True))
        fit_bytes = bytes_that_fit(width)
        most = max(len(tally.payload) - fit_bytes, 0)
        self._first_byte = min(self._first_byte, most)
        if most:
            last = self._first_byte + fit_bytes - 1
            title.put(at, f"bytes {self._first_byte}–{last} of {len(tally.payload)}, ← → ", style("dim"))
        age = picture.lens.end - FRESH_NS[1]
        fresh = bytes(0xFF if int(at) > age else 0 for at in tally.changed_at[: len(tally.payload)])
        lines = [self.line(width), title]
        lines += ribbon(self.palette, width, tally.payload, message, fresh, self._first_byte)
        if message is not None and message.signals:
            lines += value_lines(self.palette, width, tally.payload, message, 2)
        else:
            hint = self.line(width)
            hint.put(
                1,
                "no fields are known: flag marks with m while you work the device, then 4 Hunt",
                style("dim"),
            )
            lines.append(hint)
        return lines

    # What people do here.

    def move(self, by: int) -> None:
        """Move the pick."""
        if not self._keys:
            return
        at = self._keys.index(self.pick) if self.pick in self._keys else 0
        key = self._keys[min(max(at + by, 0), len(self._keys) - 1)]
        if key != self.pick:
            self.post_message(self.Picked(key))

    def do_up(self) -> None:
        """One row up."""
        self.move(-1)

    def do_down(self) -> None:
        """One row down."""
        self.move(1)

    def do_page_up(self) -> None:
        """One page up."""
        self.move(-max(self.size.height - RIBBON_ROWS - 2, 1))

    def do_page_down(self) -> None:
        """One page down."""
        self.move(max(self.size.height - RIBBON_ROWS - 2, 1))

    def do_first(self) -> None:
        """To the first row."""
        self.move(-len(self._keys))

    def do_last(self) -> None:
        """To the last row."""
        self.move(len(self._keys))

    def do_left(self) -> None:
        """The ribbon from an earlier byte."""
        self._first_byte = max(self._first_byte - 1, 0)
        self.repaint()

    def do_right(self) -> None:
        """The ribbon from a later byte."""
        self._first_byte += 1
        self.repaint()

    def do_sort(self) -> None:
        """Sort by the next column that is shown."""
        shown = [name for _, _, name in self._heads if name in SORTS]
        at = shown.index(self._sort) if self._sort in shown else -1
        self._sort_by(shown[(at + 1) % len(shown)] if shown else "id")

    def do_reverse(self) -> None:
        """Turn the order round."""
        self._sort_by(self._sort)

    def _sort_by(self, name: str) -> None:
        self._reversed = not self._reversed if name == self._sort else False
        self._sort = name
        if self.picture is not None:
            self.show(self.picture)

    def do_open_row(self) -> None:
        """The pick as frames."""
        if self.pick is not None and self.picture is not None and self.pick in self.picture.census:
            self.post_message(self.Opened(self.pick))

    def on_click(self, event: events.Click) -> None:
        """A header sorts, a row is picked, a second click opens it."""
        if event.y == 0:
            for start, end, name in self._heads:
                if start <= event.x < end and name in SORTS:
                    self._sort_by(name)
            return
        row = self._top + event.y - 1
        room = self.size.height - 1 - (RIBBON_ROWS if self.size.height >= 18 else 0)
        if event.y <= room and row < len(self._keys):
            self.post_message(self.Picked(self._keys[row]))
            if event.chain == 2:
                self.post_message(self.Opened(self._keys[row]))

    def on_mouse_scroll_down(self, event: events.MouseScrollDown) -> None:
        """The wheel moves the pick."""
        self.move(3)

    def on_mouse_scroll_up(self, event: events.MouseScrollUp) -> None:
        """The wheel moves the pick."""
        self.move(-3)


def _rate(tally: Tally, seconds: float) -> float:
    """Frames per second over the lens."""
    return tally.frames / seconds


def ask_for(picture: Picture, key: int) -> str:
    """The ask that leaves one identifier."""
    bus, form, ident = unpack_key(key)
    name = picture.snapshot.manifest.buses[bus].name
    if form == Form.NONE:
        return f"fault bus:{name}"
    twins = [k for k in picture.census if k != key and unpack_key(k)[1:] == (form, ident)]
    return f"id:{key_words(key)}" + (f" bus:{name}" if twins else "")
