"""Compare: what is different? Two recordings, or two spans of one: ranked differences, both sides one key away."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from textual import events
from textual.message import Message

from keel.app.desk.picture import Picture
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.listed import Listed
from keel.app.paint.plots import Plot, Plots, draw_plots
from keel.app.paint.strokes import bar
from keel.app.paint.table import Column, fit, grow, window
from keel.compare.buses import BusPairs
from keel.compare.difference import Difference
from keel.compare.differences import Comparison
from keel.compare.drawn import courses_of
from keel.compare.sides import AlignBy
from keel.model.identity import key_words
from keel.model.span import Span

COLUMNS = (
    Column("bar", "score", 8, drop=3),
    Column("score", "", 4, True),
    Column("kind", "kind", 15),
    Column("bus", "bus", 4, drop=2),
    Column("id", "identifier", 10, True),
    Column("name", "name", 18, drop=1),
    Column("why", "what is different", 60),
)
ALIGNMENTS: tuple[AlignBy, ...] = ("start", "mark", "traffic")
DRAWN = 12
Pairs = tuple[tuple[str, str], ...]


@dataclass(frozen=True)
class Task:
    """What is to be compared: ``a`` of ``home`` with ``b`` of ``other``, or of the same if that is None.

    ``buses`` say which bus of the first is which of the other, where a person said it.
    """

    home: Path | None
    other: Path | None
    a: Span | None
    b: Span | None
    align: AlignBy
    ask: str
    buses: Pairs = ()


class CompareView(Listed):
    """The view."""

    @dataclass
    class Run(Message):
        """A comparison is wanted."""

        task: Task

    @dataclass
    class WithWhich(Message):
        """Another recording is to be chosen."""

    @dataclass
    class Match(Message):
        """Which bus is which is to be said."""

        buses: BusPairs

    @dataclass
    class Jump(Message):
        """To the frames of a difference, on one side."""

        side: Literal["a", "b"]
        difference: Difference

    def __init__(self) -> None:
        super().__init__(id="compare")
        self.picture: Picture | None = None
        self.home: Path | None = None
        self.asked: Task | None = None
        self.found: Comparison | None = None
        self.running = False
        self.first_span: Span | None = None
        self._cursor = self._top = 0
        self._first_row = 5
        self._drawn: tuple[object, Plots | None, str] | None = None

    def show(self, picture: Picture) -> None:
        """Show another moment; what was compared stays until it is run again, or the ask is another."""
        self.picture = picture
        asked = self.asked
        if asked is not None and asked.home == self.home and asked.ask != picture.wish.ask and not self.running:
            self._run(asked.other, asked.a, asked.b, asked.align, asked.buses)
        self.repaint()

    def _run(
        self,
        other: Path | None,
        a: Span | None,
        b: Span | None,
        align: AlignBy,
        buses: Pairs = (),
    ) -> None:
        ask = self.picture.wish.ask if self.picture else ""
        self.asked = Task(self.home, other, a, b, align, ask, buses)
        self.running = True
        self.post_message(self.Run(self.asked))
        self.repaint()

    def take(self, found: Comparison | None) -> None:
        """What came of it; None when it was given up."""
        self.running = False
        if found is not None:
            self.found = found
            self._cursor = self._top = 0
        self.repaint()

    @property
    def difference(self) -> Difference | None:
        """The difference in hand."""
        rows = self.found.differences if self.found else ()
        return rows[self._cursor] if self._cursor < len(rows) else None

    def compare_with(self, other: Path) -> None:
        """Compare all that the lens shows with another recording."""
        lens = self.picture.wish.lens if self.picture else None
        self._run(other, lens, None, self.asked.align if self.asked else "start")

    # Painting.

    def paint(self, width: int, height: int) -> list[Line]:
        """Sides, differences, the one in hand drawn."""
        if self.picture is None:
            return []
        lines = [self._title(width)]
        if self.found is None:
            return lines + self._how_to(width)
        lines += self._sides(width)
        rows = self.found.differences
        if not rows:
            empty = [self.line(width) for _ in range(4)]
            problem = self.found.both.problem
            said = f"Not compared: {problem}" if problem else "No difference beyond what chance makes."
            empty[1].put(4, said, self.palette.style("strong", bold=True), width - 6)
            text = "t lays them over each other in another way; an ask narrows or widens what is compared."
            empty[3].put(4, text, self.palette.style("dim"))
            return lines + empty
        # What the list leaves free is the drawing's.
        below = max(min(DRAWN, height - 12), height - len(lines) - 2 - len(rows)) if height >= 22 else 0
        lines.append(self.line(width))
        columns = grow(fit(COLUMNS, width - 4), "why", max(width - 4 - sum(c.width + 1 for c in COLUMNS), 0))
        head = self.line(width)
        for column, at in columns:
            head.put(2 + at, column.title, self.palette.style("dim"), column.width, column.right)
        lines.append(head)
        self._first_row = len(lines)
        room = max(height - len(lines) - below, 1)
        self._top = window(self._cursor, self._top, room, len(rows))
        for i in range(self._top, min(self._top + room, len(rows))):
            lines.append(self._row(rows[i], i == self._cursor, columns, width))
        while len(lines) < height - below:
            lines.append(self.line(width))
        if below:
            lines += self._drawing(width, below)
        return lines

    def _title(self, width: int) -> Line:
        line = self.line(width)
        style = self.palette.style
        at = line.put(2, "what is different?", style("strong", bold=True)) + 3
        if self.running:
            line.put(at, "comparing… (esc gives up)", style("brass"))
        elif self.found is not None:
            count = len(self.found.differences)
            text = f"{count} difference{'s' if count != 1 else ''}, aligned {self.found.alignment.words}"
            line.put(at, text, style("dim"), max(width - at - 1, 0))
        elif self.first_span is not None and self.picture is not None:
            span, zero = self.first_span, self.picture.whole.start
            low, high = (words.seconds(t - zero, 1) for t in (span.start, span.end))
            text = f"A is {low}–{high} s; move the lens, then s again"
            line.put(at, text, style("brass"))
        return line

    def _sides(self, width: int) -> list[Line]:
        assert self.found is not None
        lines = []
        for letter, side, role in (("A", self.found.a, "sea"), ("B", self.found.b, "brass")):
            line = self.line(width)
            at = line.put(2, letter, self.palette.style(role, bold=True)) + 2
            at = line.put(at, side.name, self.palette.style("text"), min(len(side.name), 30)) + 3
            zero = side.snapshot.span.start
            span = f"{words.seconds(side.span.start - zero, 1)}–{words.seconds(side.span.end - zero, 1)} s"
            at = line.put(at, f"{span}   {words.count(len(side.matches))} frames", self.palette.style("dim")) + 3
            lines.append(line)
        said = "; ".join(self.found.both.words)
        if said:
            line = self.line(width)
            line.put(5, f"{said}   u says otherwise" if self.found.buses.words else said, self.palette.style("brass"))
            lines.append(line)
        return lines

    def _how_to(self, width: int) -> list[Line]:
        steps = (
            ("w", "compare this recording with another one"),
            ("s", "or take the lens as side A, move the lens, and s again takes it as side B"),
            ("t", "how their times go over each other: by start, by mark, by what happens in the traffic"),
            ("/", "an ask narrows what is compared, on both sides"),
        )
        lines = [self.line(width)]
        for key, text in steps:
            line = self.line(width)
            line.put(4, key, self.palette.style("brass", bold=True))
            line.put(8, text, self.palette.style("text"))
            lines.append(line)
        return lines

    def _row(self, d: Difference, picked: bool, columns: list[tuple[Column, int]], width: int) -> Line:
        style = self.palette.style
        on = "raised" if picked else "ink"
        line = self.line(width, on)
        if picked:
            line.put(0, "▌", style("brass", on))
        assert self.found is not None
        cells = {
            "bar": (bar(d.score, 8), "sea"),
            "score": (f"{d.score:.2f}", "text"),
            "kind": (d.kind.replace("_", " "), "coral" if d.kind in ("faults", "check") else "text"),
            "bus": (f" {d.bus}", self.palette.bus(d.key >> 56) if d.key is not None else "dim"),
            "id": (key_words(d.key) if d.key is not None else "", "strong"),
            "name": (self.found.name(d.key) or "—", "text"),
            "why": (d.why, "dim"),
        }
        for column, at in columns:
            text, role = cells[column.name]
            line.put(2 + at, text, style(role, on), column.width, column.right)
        return line

    def _drawing(self, width: int, height: int) -> list[Line]:
        difference, found = self.difference, self.found
        if difference is None or found is None:
            return []
        stamp = (id(found), difference, width)
        if self._drawn is None or self._drawn[0] != stamp:
            title, courses = courses_of(found, difference, (width - 12) * 2)
            plots = [Plot(letter, e.signal, e) for letter, e in courses]
            what = Plots(plots, (), 0, found.a.span.start, False) if plots else None
            self._drawn = (stamp, what, title)
        _, what, title = self._drawn
        line = self.line(width)
        at = line.put(2, title, self.palette.style("strong", bold=True)) + 3
        line.put(at, f"A {difference.a}   B {difference.b}", self.palette.style("dim"), max(width - at - 1, 0))
        return [line, *draw_plots(self.palette, width, height - 1, what)] if what is not None else [line]

    # What people do here.

    def move(self, by: int) -> None:
        """Take another difference in hand."""
        count = len(self.found.differences) if self.found else 0
        if count:
            self._cursor = min(max(self._cursor + by, 0), count - 1)
        self.repaint()

    def do_with_other(self) -> None:
        """Choose the other recording."""
        self.post_message(self.WithWhich())

    def do_spans(self) -> None:
        """Take the lens as a side."""
        if self.picture is None:
            return
        lens = self.picture.lens
        if self.first_span is None or self.first_span == lens:
            self.first_span = lens
            self.found = None
        else:
            first, self.first_span = self.first_span, None
            self._run(None, first, lens, self.asked.align if self.asked else "start")
        self.repaint()

    def do_align(self) -> None:
        """The next way to lay them over each other."""
        task = self.asked
        if task is None:
            return
        following = ALIGNMENTS[(ALIGNMENTS.index(task.align) + 1) % len(ALIGNMENTS)]
        self._run(task.other, task.a, task.b, following, task.buses)

    def do_match(self) -> None:
        """Say which bus is which."""
        if self.found is not None:
            self.post_message(self.Match(self.found.buses))

    def match(self, ours: str, theirs: str) -> None:
        """Take a bus of the first side for one of the second, or for none; compare again."""
        task = self.asked
        if task is not None:
            kept = tuple(pair for pair in task.buses if pair[1] != theirs and (not ours or pair[0] != ours))
            self._run(task.other, task.a, task.b, task.align, (*kept, (ours, theirs)))

    def do_jump_a(self) -> None:
        """To the frames of side A."""
        if self.difference is not None:
            self.post_message(self.Jump("a", self.difference))

    def do_jump_b(self) -> None:
        """To the frames of side B."""
        if self.difference is not None:
            self.post_message(self.Jump("b", self.difference))

    def on_click(self, event: events.Click) -> None:
        """Take the clicked difference in hand."""
        row = self._top + event.y - self._first_row
        if event.y >= self._first_row and self.found is not None and row < len(self.found.differences):
            self.move(row - self._cursor)
            if event.chain == 2:
                self.do_jump_a()
