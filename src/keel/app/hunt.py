"""Hunt: which field carries it? What follows the marks, ranked, each candidate drawn over them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from textual import events
from textual.message import Message

from keel.app import words
from keel.app.loom import loom
from keel.app.paper import Line, Sheet
from keel.app.picture import Picture
from keel.app.plot import Chart, Curve, draw_chart
from keel.app.rows import Column, fit, window
from keel.app.search import Result, evidence_spans
from keel.app.strokes import bar
from keel.hunt.candidates import Candidate
from keel.hunt.columns import Column as Payloads
from keel.hunt.columns import flip_shares
from keel.model.identity import key_words
from keel.model.span import Span
from keel.model.units import NS_PER_S

COLUMNS = (
    Column("rank", "rank", 4, True),
    Column("bus", "bus", 4),
    Column("id", "identifier", 10, True),
    Column("name", "name", 16, drop=2),
    Column("start", "start", 5, True),
    Column("bits", "bits", 4, True),
    Column("order", "order", 7, drop=4),
    Column("type", "type", 5, drop=3),
    Column("bar", "score", 10, drop=5),
    Column("score", "", 5, True),
    Column("known", "known as", 10, drop=1),
    Column("why", "why", 58, drop=6),
)
LOOM_ROWS = 14


class Hunt(Sheet):
    """The view."""

    @dataclass
    class Search(Message):
        """A search is wanted."""

        moments: bool

    @dataclass
    class Keep(Message):
        """A candidate is to be kept as a signal."""

        candidate: Candidate

    @dataclass
    class Picked(Message):
        """A candidate's identifier was picked."""

        key: int

    def __init__(self) -> None:
        super().__init__(id="hunt")
        self.picture: Picture | None = None
        self.result: Result | None = None
        self.searching = False
        self.moments = False
        self._cursor = self._top = 0
        self._evidence: object = None

    def show(self, picture: Picture) -> None:
        """Show another moment; search when the evidence has changed."""
        self.picture = picture
        marks = tuple(m.time for m in picture.snapshot.manifest.marks)
        evidence = (marks, picture.wish.lens, picture.wish.ask, self.moments)
        if evidence != self._evidence and not self.searching and picture.snapshot.frames:
            self._evidence = evidence
            if evidence_spans(picture, self.moments):
                self.searching = True
                self.post_message(self.Search(self.moments))
            else:
                self.result = None
        self.repaint()

    def take(self, result: Result | None) -> None:
        """What the search gave; None when it was given up."""
        self.searching = False
        if result is not None:
            self.result = result
            self._cursor = 0
            if result.findings.candidates:
                self.post_message(self.Picked(result.findings.candidates[0].key))
        self.repaint()

    @property
    def candidate(self) -> Candidate | None:
        """The candidate in hand."""
        found = self.result.findings.candidates if self.result else ()
        return found[self._cursor] if self._cursor < len(found) else None

    def paint(self, width: int, height: int) -> list[Line]:
        """Evidence, candidates, drawings."""
        picture = self.picture
        if picture is None:
            return []
        lines = [self._evidence_line(picture, width), self.line(width)]
        result = self.result
        if result is None:
            return lines + self._how_to(width)
        if not result.findings.candidates:
            return lines + self._nothing(picture, result, width)
        room = min(len(result.findings.candidates), max(height // 4, 4))
        lines += self._table(picture, result, width, room)
        lines.append(self.line(width))
        lines += self._drawings(picture, result, width, height - len(lines))
        return lines

    def _evidence_line(self, picture: Picture, width: int) -> Line:
        style = self.palette.style
        line = self.line(width)
        at = line.put(2, "what follows my marks?", style("strong", bold=True)) + 3
        marks = [m for m in picture.snapshot.manifest.marks if picture.lens.start <= m.time < picture.lens.end]
        spans = evidence_spans(picture, self.moments)
        kind = "moments" if self.moments else "pairs (before, after)"
        marked, give = ("marks", "give") if len(marks) != 1 else ("mark", "gives")
        text = f"{len(marks)} {marked} as {kind} {give} {len(spans)} span{'s' if len(spans) != 1 else ''}"
        if not self.moments and len(marks) % 2:
            text += ", the last mark has no partner"
        at = line.put(at, text, style("brass")) + 3
        if self.searching:
            line.put(at, "searching… (esc gives up)", style("brass"))
        elif self.result is not None:
            found = self.result.findings
            text = f"searched {found.identifiers} identifiers, {words.count(found.fields)} fields"
            line.put(at, f"{text} in {self.result.took_s:.1f} s", style("dim"), max(width - at - 1, 0))
        return line

    def _how_to(self, width: int) -> list[Line]:
        steps = (
            ("m", "flag a mark"),
            ("", "work the device: press the button, move the lever"),
            ("m", "flag another when it is done; each pair of marks makes a span"),
            ("", "do it two or three times: chance fits one span easily, but not three"),
            ("r", "search: Keel names the fields that change in your spans and at no other time"),
        )
        lines = []
        for number, (key, text) in enumerate(steps, 1):
            line = self.line(width)
            line.put(4, str(number), self.palette.style("dim"))
            line.put(8, key, self.palette.style("brass", bold=True))
            line.put(11, text, self.palette.style("text"))
            lines.append(line)
        return lines

    def _nothing(self, picture: Picture, result: Result, width: int) -> list[Line]:
        style = self.palette.style
        found = result.findings
        lines = [self.line(width) for _ in range(12)]
        lines[0].put(4, "Nothing follows the marks.", style("strong", bold=True))
        count = len(result.spans)
        chance = f"{found.nothing_probability:.0%}"
        texts = (
            f"In {count} span{'s' if count != 1 else ''}, no field of {found.identifiers} identifiers changed in step "
            "with what you did.",
            f"The best fits no better than something does by chance: most likely ({chance}) nothing carries it.",
            "",
            "It may be that the device says nothing: a dead button looks like this.",
            "Or the marks cover too much: leave some time between the spans, and mark two or three more.",
            f"p reads the marks as {'pairs' if self.moments else 'moments'} instead; an ask or the lens narrows "
            "the search.",
        )
        for line, text in zip(lines[2:], texts, strict=False):
            line.put(4, text, style("text"))
        if result.spans:
            room = self.line(width)
            room.put(4, "the spans:", style("dim"))
            at = 16
            for span in result.spans[:8]:
                low, high = ((t - picture.whole.start) / NS_PER_S for t in (span.start, span.end))
                at = room.put(at, f"{low:.1f}–{high:.1f} s", style("brass")) + 3
            lines[9] = room
        return lines

    def _table(self, picture: Picture, result: Result, width: int, room: int) -> list[Line]:
        style = self.palette.style
        columns = fit(COLUMNS, width - 3)
        head = self.line(width)
        for column, at in columns:
            head.put(2 + at, column.title, style("dim"), column.width, column.right)
        lines = [head]
        found = result.findings.candidates
        self._top = window(self._cursor, self._top, room, len(found))
        for rank in range(self._top, min(self._top + room, len(found))):
            lines.append(self._row(picture, rank, found[rank], columns, width))
        return lines

    def _row(
        self, picture: Picture, rank: int, candidate: Candidate, columns: list[tuple[Column, int]], width: int
    ) -> Line:
        style = self.palette.style
        picked = rank == self._cursor
        on = "raised" if picked else "ink"
        line = self.line(width, on)
        if picked:
            line.put(0, "▌", style("brass", on))
        field = candidate.field
        one_byte = field.last_byte == min(field.bits) // 8
        cells = {
            "rank": (str(rank + 1), "brass"),
            "bus": (f" {picture.bus_name(candidate.key)}", self.palette.bus(candidate.key >> 56)),
            "id": (key_words(candidate.key), "strong"),
            "name": (picture.name(candidate.key), "text"),
            "start": (str(field.start), "text"),
            "bits": (str(field.length), "text"),
            "order": ("–" if one_byte else field.order, "dim"),
            "type": ("int" if field.signed else "flag" if field.length == 1 else "uint", "dim"),
            "bar": (bar(candidate.score, 10), "sea"),
            "score": (f"{candidate.score:.3f}", "text"),
            "known": (self._known_as(picture, candidate), "plum"),
            "why": (candidate.why, "dim"),
        }
        for column, at in columns:
            text, role = cells[column.name]
            line.put(2 + at, text, style(role, on, column.name == "id"), column.width, column.right)
        return line

    def _known_as(self, picture: Picture, candidate: Candidate) -> str:
        message = picture.messages.get(candidate.key)
        bits = set(candidate.field.bits)
        for signal in message.signals if message else ():
            if bits & set(signal.field.bits):
                return signal.name
        return "—"

    def _drawings(self, picture: Picture, result: Result, width: int, height: int) -> list[Line]:
        candidate = self.candidate
        if candidate is None or height < 8:
            return []
        column = result.payloads[candidate.key]
        shown_bytes = min(column.payloads.shape[1], 8)
        wide = max(shown_bytes * 9 + 4, 46) if width >= 130 else 0
        left = width - wide - (2 if wide else 0)
        lines = [self.line(width) for _ in range(height)]
        for line, drawn in zip(lines, self._chart(picture, result, candidate, column, left, height), strict=False):
            line.paste(0, drawn)
        if wide:
            rows = min(height - 2, LOOM_ROWS * 2)
            for line, drawn in zip(lines, self._loom(picture, result, candidate, column, wide, rows), strict=False):
                line.paste(left + 2, drawn)
        return lines

    def _chart(
        self,
        picture: Picture,
        result: Result,
        candidate: Candidate,
        column: Payloads,
        width: int,
        height: int,
    ) -> list[Line]:
        title = self.line(width)
        at = title.put(2, f"candidate {self._cursor + 1}", self.palette.style("sea", bold=True)) + 1
        text = f"{picture.name(candidate.key)} {candidate.field.words()}, raw, over your marked spans"
        if width < 105:
            # There is no room for the column that says why.
            text = f"{picture.name(candidate.key)}: {candidate.why}"
        title.put(at, text, self.palette.style("dim"), width - at - 1)
        zero = picture.whole.start
        times, raw = result.traffic.values(candidate)
        values = raw.astype(np.float64)
        x = (times - zero) / NS_PER_S
        # Held values make steps: each value lasts until the next frame.
        stepped_x = np.repeat(x, 2)[1:]
        stepped_y = np.repeat(values, 2)[:-1]
        if len(stepped_x) > 20_000:
            keep = np.linspace(0, len(stepped_x) - 1, 20_000).astype(int)
            stepped_x, stepped_y = stepped_x[keep], stepped_y[keep]
        spans = [((s.start - zero) / NS_PER_S, (s.end - zero) / NS_PER_S) for s in result.spans]
        low, high = float(values.min()), float(values.max())
        margin = max((high - low) * 0.08, 0.2)
        window_s = (float(x[0]), float(x[-1]))
        chart = Chart([Curve(stepped_x, stepped_y, "sea")], window_s, (low - margin, high + margin), spans=spans)
        return [title, *draw_chart(self.palette, width, height - 1, chart)]

    def _loom(
        self, picture: Picture, result: Result, candidate: Candidate, column: Payloads, width: int, rows: int
    ) -> list[Line]:
        title = self.line(width)
        edges = Span(int(column.times[0]), int(column.times[-1]) + 1).edges(rows)
        each = (edges[-1] - edges[0]) / rows
        text = f"bit loom · {key_words(candidate.key)} · {words.length(each)} a row"
        title.put(2, text, self.palette.style("dim"))
        marked = np.array(
            [any(s.start < b and s.end > a for s in result.spans) for a, b in zip(edges, edges[1:], strict=False)]
        )
        first = max(min(candidate.field.bits) // 8 - 3, 0) if column.payloads.shape[1] > 8 else 0
        return [title, *loom(self.palette, width, flip_shares(column, edges), candidate.field, marked, first)]

    # What people do here.

    def move(self, by: int) -> None:
        """Take another candidate in hand."""
        count = len(self.result.findings.candidates) if self.result else 0
        if count:
            self._cursor = min(max(self._cursor + by, 0), count - 1)
            candidate = self.candidate
            if candidate is not None:
                self.post_message(self.Picked(candidate.key))
        self.repaint()

    def do_up(self) -> None:
        """The candidate above."""
        self.move(-1)

    def do_down(self) -> None:
        """The candidate below."""
        self.move(1)

    def do_page_up(self) -> None:
        """Some candidates up."""
        self.move(-5)

    def do_page_down(self) -> None:
        """Some candidates down."""
        self.move(5)

    def do_first(self) -> None:
        """The best candidate."""
        self.move(-1000)

    def do_last(self) -> None:
        """The last candidate."""
        self.move(1000)

    def do_search(self) -> None:
        """Search again."""
        if self.picture is None or self.searching:
            return
        if not evidence_spans(self.picture, self.moments):
            self.notify("flag marks first: m before and m after you work the device", timeout=4)
            return
        self.searching = True
        self.post_message(self.Search(self.moments))
        self.repaint()

    def do_pairing(self) -> None:
        """Marks as pairs or as moments."""
        self.moments = not self.moments
        if self.picture is not None:
            self.show(self.picture)

    def do_keep(self) -> None:
        """Keep the candidate."""
        if self.candidate is not None:
            self.post_message(self.Keep(self.candidate))

    def on_click(self, event: events.Click) -> None:
        """Take the clicked candidate in hand."""
        count = len(self.result.findings.candidates) if self.result else 0
        row = self._top + event.y - 3
        if event.y >= 3 and row < count:
            self.move(row - self._cursor)
            if event.chain == 2:
                self.do_keep()
