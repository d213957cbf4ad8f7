"""What there is to record from: each can be tried out, which only listens; one or several are then recorded."""

from __future__ import annotations

import shlex
import threading
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, ClassVar

from textual import events, work
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.screen import Screen

from keel.app.dialogs.ask_text import AskText
from keel.app.paint.canvas import Line, Sheet
from keel.app.paint.table import Column, fit, grow, header, row_line, window, write_cells
from keel.model.safe_text import plain

if TYPE_CHECKING:
    from keel.sources.kind import Kind, Verdict

COLUMNS = (
    Column("chosen", "", 2),
    Column("source", "source", 24),
    Column("what", "what it is", 34, drop=2),
    Column("said", "settings", 16, drop=1),
    Column("heard", "what is heard there", 40),
)
KEYS = (
    ("↑ ↓", "choose"),
    ("t", "try out"),
    ("space", "take several"),
    ("s", "settings"),
    ("a", "as another kind"),
    ("n", "name another"),
    ("enter", "record"),
    ("esc", "leave"),
)
HOW_TO = (
    ("t", "listens for some seconds, finds the rate, and says what comes and how sure that is"),
    ("a", "takes a serial port for the CAN adapter that it may be: the system does not know which it is"),
    ("n", "names what is not listed: tcp:9000 for the end of a tunnel, pipe:/tmp/feed, two ports of one conversation"),
)
SWAPS = {"serial": "adapter", "adapter": "serial"}
"""A CAN adapter is a serial port to the system: which it is, the person says."""
LISTENING = "listening… t ends it"
BELOW = 7


@dataclass(frozen=True)
class Row:
    """A source: its kind, its place, what was said of it, what is known, what was heard."""

    kind: str
    where: str
    title: str
    known: str = ""
    problem: str = ""
    texts: Mapping[str, str] = field(default_factory=dict)
    heard: Verdict | None = None
    chosen: bool = False

    @property
    def name(self) -> str:
        """Kind and place."""
        return f"{self.kind}:{self.where}" if self.where else self.kind

    @property
    def settings(self) -> str:
        """What was said of it, as it is typed."""
        return " ".join(f"{name}={shlex.quote(value)}" for name, value in self.texts.items())

    @property
    def spec(self) -> str:
        """As ``--from`` takes it."""
        return f"{shlex.quote(self.name)} {self.settings}".strip()


class SourceList(Sheet):
    """The list."""

    can_focus = True

    def __init__(self) -> None:
        super().__init__(id="sources")
        self.rows: list[Row] | None = None
        self.kinds: Mapping[str, Kind] = {}
        self.listening = ""
        self.cursor = self._top = 0

    def paint(self, width: int, height: int) -> list[Line]:
        """Heading, rows, what is known of the one in hand, keys."""
        style = self.palette.style
        lines = [self.line(width, "panel"), self.line(width)]
        at = lines[0].put(0, " KEEL ", style("ink", "sea", True)) + 2
        at = lines[0].put(at, "record from …", style("strong", "panel", True)) + 3
        lines[0].put(
            at, "trying out only listens: nothing is sent to any bus", style("dim", "panel"), max(width - at, 0)
        )
        if self.rows is None:
            lines[1].put(2, "Looking…", style("dim"))
            return lines
        widest = max((len(row.name) for row in self.rows), default=0)
        sized = (replace(c, width=max(c.width, min(widest, 48))) if c.name == "source" else c for c in COLUMNS)
        columns = fit(tuple(sized), width - 4)
        spare = width - 4 - columns[-1][1] - columns[-1][0].width
        columns = grow(columns, "heard", spare) if spare > 0 else columns
        lines.append(header(self.palette, width, columns, 2))
        room = max(height - 4 - BELOW, 1)
        self._top = window(self.cursor, self._top, room, len(self.rows))
        for number in range(self._top, min(self._top + room, len(self.rows))):
            lines.append(self._row(self.rows[number], number == self.cursor, columns, width))
        lines.append(self.line(width))
        for key, text in HOW_TO:
            line = self.line(width)
            line.put(4, key, style("brass", bold=True))
            line.put(8, text, style("dim"), width - 10)
            lines.append(line)
        while len(lines) < height - 1 - BELOW:
            lines.append(self.line(width))
        foot = self.line(width, "panel")
        at = 1
        for key, word in KEYS:
            at = foot.put(at, key, style("brass", "panel", True)) + 1
            at = foot.put(at, word, style("dim", "panel")) + 3
        return [*lines[: max(height - 1 - BELOW, 0)], *self._below(width), foot]

    def _row(self, row: Row, in_hand: bool, columns: list[tuple[Column, int]], width: int) -> Line:
        line, on = row_line(self.palette, width, in_hand)
        heard, role = ("", "dim")
        if self.listening == row.name:
            heard, role = LISTENING, "brass"
        elif row.problem:
            heard, role = f"✕ {row.problem}", "coral"
        elif row.heard is not None:
            heard, role = (
                row.heard.words,
                "sea" if row.heard.good else "coral" if "fault" in row.heard.words else "text",
            )
        cells = {
            "chosen": ("●" if row.chosen else "", "brass"),
            "source": (plain(row.name, 200), "strong"),
            "what": (plain(f"{row.title}, {row.known}" if row.known else row.title, 100), "dim"),
            "said": (plain(row.settings, 100), "text"),
            "heard": (plain(heard, 300), role),
        }
        write_cells(self.palette, line, columns, 2, cells, on, "source")
        return line

    def _below(self, width: int) -> list[Line]:
        """What is known of the source in hand: what was heard, in full, and what can be said of it."""
        style = self.palette.style
        lines = [self.line(width) for _ in range(BELOW)]
        lines[0].put(0, "─" * width, style("line"))
        if not self.rows:
            return lines
        row = self.rows[self.cursor]
        said = [row.problem] if row.problem else []
        said += [row.heard.words, *row.heard.notes] if row.heard is not None else []
        for line, text in zip(lines[1:], said[:3], strict=False):
            line.put(2, plain(text, 500), style("text"), width - 4)
        free = lines[1 + min(len(said), 3) :]
        kind = self.kinds.get(row.kind)
        parameters = kind.parameters if kind is not None else ()
        across = 2 if len(parameters) > len(free) and width >= 100 else 1
        for number, parameter in enumerate(parameters[: across * len(free)]):
            left = 2 + number % across * (width // 2)
            line = free[number // across]
            at = line.put(left, f"{parameter.name}=", style("brass"), 12) + 1
            takes = ", ".join(parameter.choices) or parameter.takes
            line.put(max(at, left + 12), f"{parameter.words}: {takes}", style("dim"), width // across - 14)
        return lines

    def move(self, by: int) -> None:
        """Move the cursor."""
        if self.rows:
            self.cursor = min(max(self.cursor + by, 0), len(self.rows) - 1)
            self.repaint()

    @property
    def in_hand(self) -> Row | None:
        """The row in hand."""
        return self.rows[self.cursor] if self.rows else None

    def exchange(self, name: str, row: Row) -> None:
        """Put another row in the place of the one of a name."""
        self.rows = [row if one.name == name else one for one in self.rows or ()]
        self.repaint()

    def on_click(self, event: events.Click) -> None:
        """Pick; a second click records."""
        row = self._top + event.y - 3
        if self.rows and 0 <= row < len(self.rows):
            self.cursor = row
            self.repaint()
            if event.chain == 2 and isinstance(self.screen, Sources):
                self.screen.action_record()


class Sources(Screen[tuple[str, ...] | None]):
    """The screen. Gives back the sources to record, as ``--from`` takes them."""

    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("up,k", "move(-1)", show=False),
        Binding("down,j", "move(1)", show=False),
        Binding("home", "move(-1000000)", show=False),
        Binding("end", "move(1000000)", show=False),
        Binding("t", "try_out", show=False),
        Binding("space", "choose", show=False),
        Binding("s", "settings", show=False),
        Binding("a", "swap", show=False),
        Binding("n", "name_another", show=False),
        Binding("enter", "record", show=False),
        Binding("escape,q", "leave", show=False),
    ]

    def __init__(self) -> None:
        super().__init__()
        self._stop = threading.Event()

    def compose(self) -> ComposeResult:
        """The list alone."""
        yield SourceList()

    @property
    def _list(self) -> SourceList:
        return self.query_one(SourceList)

    def on_mount(self) -> None:
        """Look what there is."""
        self._list.focus()
        self._look()

    @work(thread=True, exclusive=True, group="look")
    def _look(self) -> None:
        from keel.sources.finding import what_is_there
        from keel.sources.registry import KINDS

        rows = [Row(one.given.kind, one.given.where, one.title, one.known, one.problem) for one in what_is_there()]
        self.app.call_from_thread(self._show, rows, KINDS)

    def _show(self, rows: list[Row], kinds: Mapping[str, Kind]) -> None:
        for view in self.query(SourceList):
            view.rows, view.kinds = rows, kinds
            view.repaint()

    def action_move(self, by: int) -> None:
        """Move the cursor."""
        self._list.move(by)

    def action_choose(self) -> None:
        """Take the row in hand, or not."""
        row = self._list.in_hand
        if row is not None:
            self._list.exchange(row.name, replace(row, chosen=not row.chosen))
            self._list.move(1)

    def action_swap(self) -> None:
        """Take a port for an adapter, or an adapter for a port."""
        row = self._list.in_hand
        if row is not None and row.kind in SWAPS:
            kind = SWAPS[row.kind]
            title = self._list.kinds[kind].title
            self._list.exchange(row.name, replace(row, kind=kind, title=title, texts={}, heard=None))

    def action_settings(self) -> None:
        """Say something of the row in hand."""
        row = self._list.in_hand
        kind = self._list.kinds.get(row.kind) if row is not None else None
        if row is None or kind is None:
            return
        if not kind.parameters:
            self.notify(f"nothing can be said of {row.name}")
            return
        names = "   ".join(f"{parameter.name}=" for parameter in kind.parameters)
        self.app.push_screen(
            AskText(f"Settings of {row.name}", names, row.settings, empty=True), lambda text: self._say(row, text)
        )

    def _say(self, row: Row, text: str | None) -> None:
        if text is None:
            return
        made = self._read(f"{shlex.quote(row.name)} {text}")
        if made is not None:
            self._list.exchange(row.name, replace(row, texts=made.texts, heard=None))

    def action_name_another(self) -> None:
        """Name a source that is not in the list."""
        hint = "serial:/dev/ttyUSB0   adapter:/dev/ttyACM0 rate=250000   can:can0   tcp:9000   pipe:/tmp/feed"
        self.app.push_screen(AskText("Record from", hint, ""), self._named)

    def _named(self, text: str | None) -> None:
        made = self._read(text) if text else None
        if made is None:
            return
        view = self._list
        view.rows = [one for one in view.rows or () if one.name != made.name] + [made]
        view.cursor = len(view.rows) - 1
        view.repaint()

    def _read(self, text: str) -> Row | None:
        """A source as it was typed; None, and why is said, if there is no such."""
        from keel.errors import InputError
        from keel.sources.kind import parse_spec
        from keel.sources.registry import given_source

        try:
            given, (_, _, texts) = given_source(text), parse_spec(text)
        except InputError as error:
            self.notify(plain(str(error), 300), severity="error", timeout=8, markup=False)
            return None
        return Row(given.kind, given.where, self._list.kinds[given.kind].title, texts=texts)

    def action_try_out(self) -> None:
        """Listen at the source in hand, or end that."""
        view, row = self._list, self._list.in_hand
        if view.listening:
            self._stop.set()
        elif row is not None:
            kind = view.kinds.get(row.kind)
            if kind is None or kind.try_out is None:
                self.notify(f"{row.name} is not tried out: what comes is recorded at once", markup=False)
                return
            self._stop.clear()
            view.listening = row.name
            view.repaint()
            self._listen(row)

    @work(thread=True, group="listen")
    def _listen(self, row: Row) -> None:
        from keel.app.shared.trouble import sentence_of
        from keel.sources.kind import Verdict
        from keel.sources.registry import KINDS, given_source

        try:
            given = given_source(row.spec)
            try_out = KINDS[given.kind].try_out
            verdict = try_out(given, self._stop.is_set) if try_out is not None else Verdict("")
        except Exception as error:
            verdict = Verdict(sentence_of(error))
        self.app.call_from_thread(self._heard, row, verdict)

    def _heard(self, row: Row, verdict: Verdict) -> None:
        for view in self.query(SourceList):
            view.listening = ""
            settings = {name: str(value) for name, value in verdict.settings.items()}
            view.exchange(row.name, replace(row, heard=verdict, problem="", texts={**row.texts, **settings}))

    def action_record(self) -> None:
        """Record what was taken, or what is in hand."""
        view = self._list
        rows = [row for row in view.rows or () if row.chosen] or ([view.in_hand] if view.in_hand is not None else [])
        if rows:
            self._stop.set()
            self.dismiss(tuple(row.spec for row in rows))

    def action_leave(self) -> None:
        """Record nothing."""
        self._stop.set()
        self.dismiss(None)
