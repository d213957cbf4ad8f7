"""Hunt: which field carries it? Evidence of any kind, what fits it ranked, each drawn over the evidence."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

from textual import events
from textual.message import Message

from keel.app.desk.picture import Picture
from keel.app.paint.canvas import Line
from keel.app.paint.listed import Listed
from keel.app.paint.table import Column, window
from keel.app.views.hunt.drawing import drawings
from keel.app.views.hunt.help import evidence_line, how_to, nothing, verdict_line
from keel.app.views.hunt.rows import Row, name_of, rows_of, table
from keel.app.views.hunt.search import Mode, Pairing, Result, Sought, has_evidence, telling_of, tries_in
from keel.hunt.candidates import Candidate
from keel.hunt.exact import Known

PAIRINGS: tuple[Pairing, ...] = ("pairs", "moments", "unused")


class Hunt(Listed):
    """The view."""

    @dataclass
    class Search(Message):
        """A search is wanted."""

        sought: Sought

    @dataclass
    class Keep(Message):
        """A candidate is to be kept as a signal."""

        candidate: Candidate

    @dataclass
    class RuleOut(Message):
        """A candidate and its family are to be ruled out."""

        words: str
        names: frozenset[object]

    @dataclass
    class Picked(Message):
        """A row's identifier was picked."""

        key: int

    @dataclass
    class Jump(Message):
        """To the frames of a difference: on the good side, or the bad one."""

        key: int
        times: tuple[int, ...]
        bad: Path | None

    @dataclass
    class Asked(Message):
        """Something is to be typed or chosen: a reading, a series, a value, the bad recording."""

        what: Literal["reading", "series", "value", "bad"]

    def __init__(self) -> None:
        super().__init__(id="hunt")
        self.picture: Picture | None = None
        self.result: Result | None = None
        self.searching = False
        self.sought = Sought()
        self.ruled_out: frozenset[object] = frozenset()
        self.rows: list[Row] = []
        self._columns: tuple[Column, ...] = ()
        self._telling = ""
        self._cursor = self._top = 0
        self._evidence: object = None

    def show(self, picture: Picture) -> None:
        """Show another moment; search when the evidence has changed."""
        self.picture = picture
        marks = tuple((m.time, m.of) for m in picture.snapshot.manifest.marks)
        readings = tuple(r for r in picture.snapshot.manifest.readings if not r.of)
        evidence = (marks, readings, picture.wish.lens, picture.wish.ask, self.sought)
        if evidence != self._evidence and not self.searching and picture.snapshot.frames:
            self._evidence = evidence
            if has_evidence(picture, self.sought):
                self.searching = True
                self.post_message(self.Search(self.sought))
            else:
                self.result = None
        self._list()
        self.repaint()

    def take(self, result: Result | None) -> None:
        """What the search gave, or what it has so far; None when it was given up."""
        self.searching = result is not None and result.is_partial
        if result is not None:
            self.result = result
            self._cursor = self._top = 0
            self._list()
            if self.rows:
                self.post_message(self.Picked(self.rows[0].key))
        self.repaint()

    def _list(self) -> None:
        if self.picture is None or self.result is None:
            self.rows = []
            return
        self._columns, self.rows = rows_of(self.picture, self.result, self.ruled_out)
        self._cursor = min(self._cursor, max(len(self.rows) - 1, 0))
        self._telling = self.result.telling
        if self.ruled_out and self.result.differences is None:
            left = tuple(row.candidate for row in self.rows if row.candidate is not None)
            self._telling = telling_of(self.result.traffic, left, self.picture.whole.start)

    @property
    def row(self) -> Row | None:
        """The row in hand."""
        return self.rows[self._cursor] if self._cursor < len(self.rows) else None

    @property
    def candidate(self) -> Candidate | None:
        """The candidate in hand."""
        return self.row.candidate if self.row else None

    def paint(self, width: int, height: int) -> list[Line]:
        """Evidence, rows, drawings."""
        picture = self.picture
        if picture is None:
            return []
        lines = [
            evidence_line(self.palette, width, picture, self.sought, self.result, self.searching),
        ]
        result = self.result
        says = result is not None and self.rows and result.sought.mode == "carrier"
        lines.append(verdict_line(self.palette, width, result) if result and says else self.line(width))
        if result is None:
            return lines + how_to(self.palette, width)
        if not self.rows:
            return lines + nothing(self.palette, width, picture, result, bool(self.ruled_out))
        room = min(len(self.rows), max(height // 4, 4))
        if result.sought.mode == "structure":
            room = min(len(self.rows), max(height // 2 - 3, 4))
        self._top = window(self._cursor, self._top, room, len(self.rows))
        lines += table(self.palette, width, self._columns, self.rows, self._top, room, self._cursor)
        lines.append(self.line(width))
        if self._telling:
            title = "" if result.differences is not None else "to tell the first two apart: "
            at = lines[-1].put(2, title, self.palette.style("brass"))
            lines[-1].put(at, self._telling, self.palette.style("text"), max(width - at - 1, 0))
        row = self.row
        if row is not None:
            number = self._cursor + 1
            lines += drawings(self.palette, width, height - len(lines), picture, result, row, number)
        return lines

    # What people do here.

    @property
    def page_rows(self) -> int:
        """How many rows a page is."""
        return 5

    def move(self, by: int) -> None:
        """Take another row in hand."""
        if self.rows:
            self._cursor = min(max(self._cursor + by, 0), len(self.rows) - 1)
            self.post_message(self.Picked(self.rows[self._cursor].key))
        self.repaint()

    def seek(self, sought: Sought) -> None:
        """Look for something else, or by other evidence."""
        self.sought = sought
        if self.picture is not None:
            self._evidence = None
            self.show(self.picture)

    def seek_by(self, series: Path | None = None, known: Known | None = None) -> None:
        """Use a series or a known value besides; None of both takes them back."""
        if series is None and known is None:
            self.seek(replace(self.sought, mode="carrier", series=None, known=None))
        elif series is not None:
            self.seek(replace(self.sought, mode="carrier", series=series))
        else:
            self.seek(replace(self.sought, mode="carrier", known=known))

    def seek_bad(self, bad: Path | None) -> None:
        """What is wrong in another recording, or in the lens."""
        self.seek(replace(self.sought, mode="against", bad=bad))

    def do_search(self) -> None:
        """Search again."""
        if self.picture is None or self.searching:
            return
        if not has_evidence(self.picture, self.sought):
            self.notify("there is no evidence yet: m marks, r readings, s a series, v a value", timeout=4)
            return
        self.searching = True
        self.post_message(self.Search(self.sought))
        self.repaint()

    def do_pairing(self) -> None:
        """Marks as pairs, as moments, or not at all."""
        following = PAIRINGS[(PAIRINGS.index(self.sought.pairing) + 1) % len(PAIRINGS)]
        self.seek(replace(self.sought, pairing=following))

    def do_tries(self) -> None:
        """The marks of the try before, or the last one's again."""
        names = tries_in(self.picture) if self.picture is not None else []
        if len(names) < 2:
            self.notify("all marks are of one try; n begins another, when you operate something else", timeout=4)
            return
        now = names.index(self.sought.attempt) if self.sought.attempt in names else len(names) - 1
        self.seek(replace(self.sought, attempt=names[now - 1]))

    def do_structure(self) -> None:
        """What payloads are made of, or the candidates again."""
        mode: Mode = "carrier" if self.sought.mode == "structure" else "structure"
        self.seek(replace(self.sought, mode=mode))

    def do_reading(self) -> None:
        """Type what a display shows."""
        self.post_message(self.Asked("reading"))

    def do_series(self) -> None:
        """Use a log of another instrument."""
        self.post_message(self.Asked("series"))

    def do_value(self) -> None:
        """Look for a value or text that is sent."""
        self.post_message(self.Asked("value"))

    def do_against(self) -> None:
        """What is wrong in a bad recording; or the candidates again."""
        if self.sought.mode == "against":
            self.seek(replace(self.sought, mode="carrier", bad=None))
        else:
            self.post_message(self.Asked("bad"))

    def do_rule_out(self) -> None:
        """Rule the candidate and its family out."""
        candidate = self.candidate
        if candidate is None or self.result is None:
            return
        family = [c for c in self.result.findings.candidates if c.family == candidate.family]
        words = f"ruled out candidate {self._cursor + 1}"
        self.post_message(self.RuleOut(words, frozenset(name_of(c) for c in [candidate, *family])))

    def rule_out(self, names: frozenset[object]) -> None:
        """These candidates are ruled out, and no others."""
        self.ruled_out = names
        self._list()
        self.repaint()

    def do_keep(self) -> None:
        """Keep the candidate, or go to the frames of a difference."""
        row = self.row
        if row is None or self.result is None:
            return
        if row.candidate is not None:
            self.post_message(self.Keep(row.candidate))
        elif self.result.differences is not None:
            self.post_message(self.Jump(row.key, row.times, self.result.sought.bad))
        elif row.field is not None:
            found = Candidate(row.key, row.field, 0.0, "seen in the structure of its payloads", row.page)
            self.post_message(self.Keep(found))

    def on_click(self, event: events.Click) -> None:
        """Take the clicked row in hand."""
        row = self._top + event.y - 3
        if event.y >= 3 and row < len(self.rows):
            self.move(row - self._cursor)
            if event.chain == 2:
                self.do_keep()
