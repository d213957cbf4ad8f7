"""The Hunt view: evidence of any kind, what fits it ranked, each drawn over the evidence."""

from __future__ import annotations

from dataclasses import dataclass, replace

from keel.app.frame.action import Action, moves
from keel.app.frame.helm import Helm, Here, Offer
from keel.app.frame.steering import HOLD, NEW_TRY, frames_of
from keel.app.frame.view import View
from keel.app.paint.canvas import Line
from keel.app.paint.memo import Memo
from keel.app.paint.table import Column, window
from keel.app.views.hunt import evidence, keeping
from keel.app.views.hunt.choices import HuntChoices
from keel.app.views.hunt.drawing import drawings
from keel.app.views.hunt.help import evidence_line, how_to, nothing, trouble_lines, verdict_line
from keel.app.views.hunt.offers import offers_of
from keel.app.views.hunt.rows import Row, name_of, rows_of, table
from keel.app.views.hunt.search import Mode, Pairing, Result, has_evidence, telling_of, tries_in
from keel.app.views.hunt.wants import Hunted, HuntWant
from keel.hunt.candidates import Candidate

PAIRINGS: tuple[Pairing, ...] = ("pairs", "moments", "unused")


@dataclass(frozen=True)
class Answer:
    """The rows of a result, their columns, and what would tell the first two apart."""

    columns: tuple[Column, ...] = ()
    rows: tuple[Row, ...] = ()
    telling: str = ""


class Hunt(View):
    """The view."""

    def __init__(self) -> None:
        self._answers: Memo[Answer] = Memo()
        self.actions = (
            HOLD,
            *moves(self.move, lambda helm: 5),
            Action(("enter",), "enter", "keep", "Keep the candidate as a named signal", self.keep),
            Action(("r",), "r", "reading", "Type what a display shows now, or at a time", evidence.type_reading),
            Action(("s",), "s", "series", "Use a log of another instrument", evidence.use_series),
            Action(("v",), "v", "value", "Look for a value or text that is sent", evidence.type_value),
            Action(("g",), "g", "good/bad", "What is wrong in a bad recording, or in the lens?", evidence.turn_against),
            Action(("u",), "u", "structure", "What are the payloads made of?", self.turn_structure),
            Action(("x",), "x", "rule out", "Rule out this candidate and its family", self.rule_out),
            Action(("R",), "R", "", "Search again", self.search_again),
            Action(("p",), "p", "pairs", "Marks as pairs (start, end), as moments, or not used", self.next_pairing),
            Action(("t",), "t", "", "The marks of another try", self.next_try),
            NEW_TRY,
            Action(("d",), "d", "draft", "Draft a dictionary of all that the traffic shows", keeping.draft_dictionary),
            Action(("escape",), "esc", "", "Give up the search", self.give_up),
        )

    def wants(self, here: Here) -> HuntWant:
        """A search by the evidence there is."""
        choices = here.state.of(HuntChoices)
        return HuntWant(choices.sought, choices.again)

    def at_first(self) -> HuntWant:
        """A search by the evidence there is."""
        return HuntWant()

    # What is in hand.

    def answer(self, here: Here) -> Answer:
        """The rows that are shown."""
        hunted, ruled_out = here.picture.part(Hunted), here.state.of(HuntChoices).ruled_out
        result = hunted.result if hunted is not None else None
        if result is None:
            return Answer()
        found = result
        made_of = (here.picture.messages, here.picture.snapshot.manifest.buses, found, ruled_out)
        return self._answers.of(made_of, lambda: _answer(here, found, ruled_out))

    def cursor(self, here: Here) -> int:
        """The place of the row in hand."""
        in_hand = here.state.of(HuntChoices).in_hand
        return next((i for i, row in enumerate(self.answer(here).rows) if row.label == in_hand), 0)

    def row(self, here: Here) -> Row | None:
        """The row in hand."""
        rows = self.answer(here).rows
        return rows[self.cursor(here)] if rows else None

    def pick(self, here: Here) -> int | None:
        """The identifier of the row in hand."""
        row = self.row(here)
        return row.key if row is not None else super().pick(here)

    # Painting.

    def paint(self, here: Here) -> list[Line]:
        """Evidence, rows, drawings."""
        sought = here.state.of(HuntChoices).sought
        hunted = here.picture.part(Hunted) or Hunted(sought)
        result, answer = hunted.result, self.answer(here)
        lines = [evidence_line(here, sought, hunted)]
        says = result is not None and answer.rows and result.sought.mode == "carrier"
        lines.append(verdict_line(here, result) if result is not None and says else here.line())
        if hunted.errand.trouble:
            lines += trouble_lines(here, hunted.errand.trouble)
        if result is None:
            return lines if hunted.errand.trouble else lines + how_to(here)
        if not answer.rows:
            return lines + nothing(here, result, bool(here.state.of(HuntChoices).ruled_out))
        return lines + self._rows(here, result, answer, here.height - len(lines))

    def _room(self, here: Here, result: Result, count: int) -> int:
        if result.sought.mode == "structure":
            return min(count, max(here.height // 2 - 3, 4))
        return min(count, max(here.height // 4, 4))

    def _rows(self, here: Here, result: Result, answer: Answer, height: int) -> list[Line]:
        cursor, room = self.cursor(here), self._room(here, result, len(answer.rows))
        top = window(cursor, here.state.of(HuntChoices).top, room, len(answer.rows))
        lines = table(here, answer.columns, answer.rows, top, room, cursor)
        lines.append(here.line())
        if answer.telling:
            title = "" if result.differences is not None else "to tell the first two apart: "
            at = lines[-1].put(2, title, here.style("brass"))
            lines[-1].put(at, answer.telling, here.style("text"), max(here.width - at - 1, 0))
        elif "why" in (cells := answer.rows[cursor].cells):
            # The list may have cut it.
            lines[-1].put(2, cells["why"][0], here.style("dim"), here.width - 3)
        return lines + drawings(here, height - len(lines), result, answer.rows[cursor], cursor + 1)

    # What people do here.

    def move(self, helm: Helm, by: int) -> None:
        """Take another row in hand."""
        count = len(self.answer(helm.here).rows)
        if count:
            self._take(helm, min(max(self.cursor(helm.here) + by, 0), count - 1))

    def _take(self, helm: Helm, cursor: int) -> None:
        here, answer = helm.here, self.answer(helm.here)
        hunted = here.picture.part(Hunted)
        if hunted is None or hunted.result is None:
            return
        choices = here.state.of(HuntChoices)
        room = self._room(here, hunted.result, len(answer.rows))
        top = window(cursor, choices.top, room, len(answer.rows))
        row = answer.rows[cursor]
        state = replace(here.state, pick=row.key).having(replace(choices, in_hand=row.label, top=top))
        helm.change("row", state, joins=True)

    def search_again(self, helm: Helm) -> None:
        """Search again by the same evidence; not a change to undo."""
        choices = helm.state.of(HuntChoices)
        if not has_evidence(helm.here.picture, choices.sought):
            helm.tell("there is no evidence yet: m marks, r readings, s a series, v a value", 4)
            return
        helm.quietly(helm.state.having(replace(choices, again=choices.again + 1)))

    def next_pairing(self, helm: Helm) -> None:
        """Marks as pairs, as moments, or not at all."""
        sought = helm.state.of(HuntChoices).sought
        following = PAIRINGS[(PAIRINGS.index(sought.pairing) + 1) % len(PAIRINGS)]
        evidence.seek(helm, "how marks are read", replace(sought, pairing=following))

    def next_try(self, helm: Helm) -> None:
        """The marks of the try before, or the last one's again."""
        names, sought = tries_in(helm.here.picture), helm.state.of(HuntChoices).sought
        if len(names) < 2:
            helm.tell("all marks are of one try; n begins another, when you operate something else", 4)
            return
        now = names.index(sought.attempt) if sought.attempt in names else len(names) - 1
        evidence.seek(helm, "the try", replace(sought, attempt=names[now - 1]))

    def turn_structure(self, helm: Helm) -> None:
        """What payloads are made of, or the candidates again."""
        sought = helm.state.of(HuntChoices).sought
        mode: Mode = "carrier" if sought.mode == "structure" else "structure"
        evidence.seek(helm, "what is looked for", replace(sought, mode=mode))

    def rule_out(self, helm: Helm) -> None:
        """Rule the candidate and its family out."""
        hunted, row = helm.here.picture.part(Hunted), self.row(helm.here)
        if hunted is None or hunted.result is None or row is None or row.candidate is None:
            return
        family = row.candidate.family
        names = {name_of(c) for c in hunted.result.findings.candidates if c.family == family} | {row.label}
        choices = helm.state.of(HuntChoices)
        after = replace(choices, ruled_out=choices.ruled_out | names, in_hand=None)
        words = f"ruled out candidate {self.cursor(helm.here) + 1}"
        helm.change(words, helm.state.having(after))
        helm.tell(f"{words}; ⌫ undoes it", 2)

    def give_up(self, helm: Helm) -> None:
        """Give up the search."""
        if not helm.give_up():
            helm.tell("nothing is being searched", 2)

    def keep(self, helm: Helm) -> None:
        """Keep the candidate as a signal, or go to the frames of a difference."""
        hunted, row = helm.here.picture.part(Hunted), self.row(helm.here)
        if hunted is None or hunted.result is None or row is None:
            return
        if row.candidate is not None:
            keeping.keep_candidate(helm, hunted.result, row.candidate)
        elif hunted.result.differences is not None:
            self._jump(helm, hunted.result, row)
        elif row.field is not None:
            found = Candidate(row.key, row.field, 0.0, "seen in the structure of its payloads", row.page)
            keeping.keep_candidate(helm, hunted.result, found)

    def _jump(self, helm: Helm, result: Result, row: Row) -> None:
        """To the frames of what is wrong, in the bad recording."""
        bad, picture = result.sought.bad, helm.here.picture
        if bad is not None and row.times:
            keeping.open_bad(helm, result, row.key, row.times[0])
        elif row.times and row.key in picture.census:
            frames_of(helm, row.key, picture.matches.frame_at(row.times[0]))
        elif row.key in picture.census:
            frames_of(helm, row.key)
        else:
            helm.tell("there are no such frames here", 3)

    def offers(self, here: Here) -> list[Offer]:
        """The candidate over the evidence."""
        hunted, row = here.picture.part(Hunted), self.row(here)
        if hunted is None or hunted.result is None or row is None or row.candidate is None:
            return []
        return offers_of(here, hunted.result, row.candidate)

    def click(self, helm: Helm, x: int, y: int, again: bool) -> None:
        """Take the clicked row in hand."""
        here, answer = helm.here, self.answer(helm.here)
        hunted = here.picture.part(Hunted)
        if hunted is None or hunted.result is None or not answer.rows:
            return
        room = self._room(here, hunted.result, len(answer.rows))
        top = window(self.cursor(here), here.state.of(HuntChoices).top, room, len(answer.rows))
        if 3 <= y < 3 + room and top + y - 3 < len(answer.rows):
            self._take(helm, top + y - 3)
            if again:
                self.keep(helm)

    def wheel(self, helm: Helm, by: int) -> None:
        """Another row."""
        self.move(helm, 1 if by > 0 else -1)


def _answer(here: Here, result: Result, ruled_out: frozenset[object]) -> Answer:
    columns, rows = rows_of(here.picture, result, ruled_out)
    telling = result.telling
    if ruled_out and result.differences is None:
        left = tuple(row.candidate for row in rows if row.candidate is not None)
        telling = telling_of(result.traffic, left, here.picture.zero)
    return Answer(columns, tuple(rows), telling)
