"""The Compare view: two recordings, or two spans of one: ranked differences, both sides one key away."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

from keel.app.frame.action import Action, moves
from keel.app.frame.helm import Choice, Helm, Here, Offer
from keel.app.frame.other_recordings import choose_recording
from keel.app.frame.view import View
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.memo import Memo
from keel.app.paint.plots import Plot, Plots, draw_plots
from keel.app.paint.strokes import bar
from keel.app.paint.table import Column, fit, grow, header, row_line, window, write_cells
from keel.app.shared.state import State
from keel.app.views.compare.choices import CompareChoices, Task
from keel.app.views.compare.offers import offers_of
from keel.app.views.compare.run import Which, place_of
from keel.app.views.compare.wants import Compared, CompareWant
from keel.compare.difference import Difference
from keel.compare.differences import Comparison
from keel.compare.drawn import courses_of
from keel.compare.report import kind_words
from keel.compare.sides import AlignBy
from keel.media.every import key_words

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
DRAWN_FROM = 22
"""So high a view must be to have a drawing below the list."""


@dataclass(frozen=True)
class Layout:
    """Where everything stands: the first row of the list, how many there are, the one in hand, the drawing's rows."""

    first_row: int
    room: int
    top: int
    cursor: int
    below: int


class CompareView(View):
    """The view."""

    def __init__(self) -> None:
        self._drawn: Memo[tuple[str, Plots | None]] = Memo()
        self.actions = (
            *moves(self.move, lambda helm: self._layout(helm.here).room),
            Action(("enter",), "enter", "to this", "To the frames of this side", lambda helm: self._jump(helm, "this")),
            Action(("b",), "b", "to other", "To the frames of the other side", lambda helm: self._jump(helm, "other")),
            Action(("w",), "w", "with", "Compare with another recording", self.choose_other),
            Action(("s",), "s", "spans", "Take the lens as this side, then as the other", self.take_span),
            Action(("u",), "u", "buses", "Say which bus of one is which of the other", self.choose_buses),
            Action(("t",), "t", "align", "Align by start, by mark, or by what happens in the traffic", self.next_align),
            Action(("R",), "R", "", "Compare again", self.again),
            Action(("escape",), "esc", "", "Give up comparing", self.give_up),
        )

    def _choices(self, here: Here) -> CompareChoices:
        """The choices that are of this recording; those of another are not of it."""
        choices = here.state.of(CompareChoices)
        return choices if choices.home == here.state.folder else CompareChoices(home=here.state.folder)

    def wants(self, here: Here) -> CompareWant:
        """The comparison that was asked for."""
        choices = self._choices(here)
        return CompareWant(choices.task, choices.again)

    def at_first(self) -> CompareWant:
        """Nothing before somebody asks."""
        return CompareWant()

    # What is in hand.

    def _found(self, here: Here) -> Comparison | None:
        compared = here.picture.part(Compared)
        return compared.found if compared is not None and self._choices(here).task is not None else None

    def _layout(self, here: Here) -> Layout:
        found, choices = self._found(here), self._choices(here)
        rows = found.differences if found is not None else ()
        above = 3 + (1 if found is not None and found.both.words else 0)
        # What the list leaves free is the drawing's.
        below = max(min(DRAWN, here.height - 12), here.height - above - 2 - len(rows))
        below = below if here.height >= DRAWN_FROM else 0
        first_row = above + 2
        room = max(here.height - first_row - below, 1)
        cursor = next((i for i, d in enumerate(rows) if d == choices.in_hand), 0)
        return Layout(first_row, room, window(cursor, choices.top, room, len(rows)), cursor, below)

    def difference(self, here: Here) -> Difference | None:
        """The difference in hand."""
        found = self._found(here)
        return found.differences[self._layout(here).cursor] if found is not None and found.differences else None

    # Painting.

    def paint(self, here: Here) -> list[Line]:
        """Sides, differences, the one in hand drawn."""
        found, layout = self._found(here), self._layout(here)
        compared = here.picture.part(Compared) or Compared()
        lines = [self._title(here, compared, found)]
        if compared.errand.trouble:
            lines += [here.line(), here.line()]
            lines[-1].put(4, f"✕ {compared.errand.trouble}", here.style("coral"), here.width - 6)
        if found is None:
            return lines + _how_to(here)
        lines += _sides(here, found)
        rows = found.differences
        if not rows:
            empty = [here.line() for _ in range(4)]
            problem = found.both.problem
            said = f"Not compared: {problem}" if problem else "No difference beyond what chance makes."
            empty[1].put(4, said, here.style("strong", bold=True), here.width - 6)
            text = "t lays them over each other in another way; an ask narrows or widens what is compared."
            empty[3].put(4, text, here.style("dim"))
            return lines + empty
        lines.append(here.line())
        buses = max((len(d.bus) for d in rows), default=1)
        sized = tuple(replace(c, width=min(max(4, buses + 2), 14)) if c.name == "bus" else c for c in COLUMNS)
        columns = grow(fit(sized, here.width - 4), "why", max(here.width - 4 - sum(c.width + 1 for c in sized), 0))
        lines.append(header(here.palette, here.width, columns, 2))
        for i in range(layout.top, min(layout.top + layout.room, len(rows))):
            lines.append(_row(here, found, rows[i], i == layout.cursor, columns))
        while len(lines) < here.height - layout.below:
            lines.append(here.line())
        return lines + self._drawing(here, found, rows[layout.cursor], layout.below) if layout.below else lines

    def _title(self, here: Here, compared: Compared, found: Comparison | None) -> Line:
        line, style, choices = here.line(), here.style, self._choices(here)
        at = line.put(2, "what is different?", style("strong", bold=True)) + 3
        if compared.errand.running:
            line.put(at, "comparing… (esc gives up)", style("brass"))
        elif compared.errand.given_up:
            line.put(at, "given up; R compares again", style("brass"))
        elif choices.first_span is not None:
            span, zero = choices.first_span, here.picture.zero
            low, high = (words.seconds(t - zero, 1) for t in (span.start, span.end))
            line.put(at, f"this side is {low}–{high} s; move the lens, then s again", style("brass"))
        elif found is not None:
            count = len(found.differences)
            text = f"{count} difference{'s' if count != 1 else ''}, aligned {found.alignment.words}"
            line.put(at, text, style("dim"), max(here.width - at - 1, 0))
        return line

    def _drawing(self, here: Here, found: Comparison, difference: Difference, height: int) -> list[Line]:
        def draw() -> tuple[str, Plots | None]:
            title, courses = courses_of(found, difference, (here.width - 12) * 2)
            plots = [Plot(side, e.signal, e) for side, e in courses]
            return title, Plots(plots, (), 0, found.a.span.start, False) if plots else None

        title, what = self._drawn.of((found, difference, here.width), draw)
        line = here.line()
        at = line.put(2, title, here.style("strong", bold=True)) + 3
        line.put(at, f"this {difference.a}   other {difference.b}", here.style("dim"), max(here.width - at - 1, 0))
        return [line, *draw_plots(here.palette, here.width, height - 1, what)] if what is not None else [line]

    # What people do here.

    def _choose(self, helm: Helm, words: str, choices: CompareChoices, joins: bool = False) -> None:
        helm.change(words, helm.state.having(replace(choices, home=helm.state.folder)), joins)

    def _ask_for(self, helm: Helm, words: str, task: Task) -> None:
        self._choose(helm, words, replace(self._choices(helm.here), task=task, first_span=None, in_hand=None, top=0))

    def move(self, helm: Helm, by: int) -> None:
        """Take another difference in hand."""
        found, layout = self._found(helm.here), self._layout(helm.here)
        if found is not None and found.differences:
            self._take(helm, found, min(max(layout.cursor + by, 0), len(found.differences) - 1))

    def _take(self, helm: Helm, found: Comparison, cursor: int) -> None:
        layout = self._layout(helm.here)
        top = window(cursor, layout.top, layout.room, len(found.differences))
        choices = replace(self._choices(helm.here), in_hand=found.differences[cursor], top=top)
        self._choose(helm, "row", choices, joins=True)

    def choose_other(self, helm: Helm) -> None:
        """Choose the other recording."""

        def compare_with(other: Path) -> None:
            old = self._choices(helm.here).task
            align = old.align if old is not None else "start"
            self._ask_for(helm, f"compare with {other.stem}", Task(other, helm.state.lens, None, align))

        choose_recording(helm, "compare with", compare_with)

    def take_span(self, helm: Helm) -> None:
        """Take the lens as a side."""
        choices, lens = self._choices(helm.here), helm.here.lens
        first = choices.first_span
        if first is None or first == lens:
            self._choose(helm, "this side", replace(choices, first_span=lens))
        else:
            align = choices.task.align if choices.task is not None else "start"
            self._ask_for(helm, "compare two spans", Task(None, first, lens, align))

    def next_align(self, helm: Helm) -> None:
        """The next way to lay them over each other."""
        task = self._choices(helm.here).task
        if task is not None:
            following = ALIGNMENTS[(ALIGNMENTS.index(task.align) + 1) % len(ALIGNMENTS)]
            self._ask_for(helm, f"align by {following}", replace(task, align=following))

    def choose_buses(self, helm: Helm) -> None:
        """Say which bus is which."""
        found, task = self._found(helm.here), self._choices(helm.here).task
        if found is None or task is None:
            return
        buses, asked = found.buses, task
        choices = [
            Choice(f"{i},{j}", f"{'●' if buses.partners[j] == i else '○'} this bus {ours} is the other's {theirs}")
            for i, ours in enumerate(buses.a)
            for j, theirs in enumerate(buses.b)
        ]
        choices += [
            Choice(f",{j}", f"{'●' if buses.partners[j] is None else '○'} the other's bus {theirs} is none of this")
            for j, theirs in enumerate(buses.b)
        ]

        def chosen(answer: str) -> None:
            i, _, j = answer.partition(",")
            ours, theirs = buses.a[int(i)] if i else "", buses.b[int(j)]
            kept = tuple(pair for pair in asked.buses if pair[1] != theirs and (not ours or pair[0] != ours))
            self._ask_for(helm, "which bus is which", replace(asked, buses=(*kept, (ours, theirs))))

        helm.windows.choose("which bus is which?", choices, chosen)

    def again(self, helm: Helm) -> None:
        """Compare again; not a change to undo."""
        choices = self._choices(helm.here)
        helm.quietly(helm.state.having(replace(choices, again=choices.again + 1)))

    def give_up(self, helm: Helm) -> None:
        """Give up comparing."""
        if not helm.give_up():
            helm.tell("nothing is being compared", 2)

    def _jump(self, helm: Helm, which: Which) -> None:
        """To the frames of one side; another recording is opened for it."""
        from keel.ask.narrowing import of_key

        found, difference, task = self._found(helm.here), self.difference(helm.here), self._choices(helm.here).task
        if found is None or difference is None or task is None:
            return
        side = found.a if which == "this" else found.b
        key, number = place_of(found, which, difference)
        if key is None and number is None:
            helm.tell("there are no such frames on this side", 3)
            return
        ask = str(of_key(key, side.bus(key))) if key is not None else ""
        if which == "this" or task.other is None:
            state = replace(helm.state, view="frames", ask=ask, lens=None, pick=key, frame=number)
        else:
            state = State(folder=task.other, view="frames", ask=ask, pick=key, frame=number, own=helm.state.own)
        helm.change("jump", state)

    def offers(self, here: Here) -> list[Offer]:
        """The report."""
        found = self._found(here)
        return offers_of(here, found) if found is not None else []

    def click(self, helm: Helm, x: int, y: int, again: bool) -> None:
        """Take the clicked difference in hand."""
        found, layout = self._found(helm.here), self._layout(helm.here)
        row = layout.top + y - layout.first_row
        in_list = layout.first_row <= y < layout.first_row + layout.room
        if in_list and found is not None and row < len(found.differences):
            self._take(helm, found, row)
            if again:
                self._jump(helm, "this")

    def wheel(self, helm: Helm, by: int) -> None:
        """Another difference."""
        self.move(helm, 1 if by > 0 else -1)


def _sides(here: Here, found: Comparison) -> list[Line]:
    lines = []
    for name, side, role in (("this", found.a, "sea"), ("other", found.b, "brass")):
        line = here.line()
        at = line.put(2, name, here.style(role, bold=True), 5) + 2
        at = line.put(at, side.name, here.style("text"), min(len(side.name), 30)) + 3
        zero = side.snapshot.zero
        span = f"{words.seconds(side.span.start - zero, 1)}–{words.seconds(side.span.end - zero, 1)} s"
        line.put(at, f"{span}   {words.count(len(side.matches))} frames", here.style("dim"))
        lines.append(line)
    said = "; ".join(found.both.words)
    if said:
        line = here.line()
        line.put(9, f"{said}   u says otherwise" if found.buses.words else said, here.style("brass"))
        lines.append(line)
    return lines


def _how_to(here: Here) -> list[Line]:
    steps = (
        ("w", "compare this recording with another one"),
        ("s", "or take the lens as this side, move the lens, and s again takes it as the other"),
        ("t", "how their times go over each other: by start, by mark, by what happens in the traffic"),
        ("/", "an ask narrows what is compared, on both sides"),
    )
    lines = [here.line()]
    for key, text in steps:
        line = here.line()
        line.put(4, key, here.style("brass", bold=True))
        line.put(8, text, here.style("text"))
        lines.append(line)
    return lines


def _row(here: Here, found: Comparison, d: Difference, in_hand: bool, columns: list[tuple[Column, int]]) -> Line:
    line, on = row_line(here.palette, here.width, in_hand)
    cells = {
        "bar": (bar(d.score, 8), "sea"),
        "score": (f"{d.score:.2f}", "text"),
        "kind": (kind_words(d.kind), "coral" if d.kind in ("faults", "check") else "text"),
        "bus": (f" {d.bus}", here.palette.bus(d.key >> 56) if d.key is not None else "dim"),
        "id": (key_words(d.key) if d.key is not None else "", "strong"),
        "name": (found.name(d.key) or "—", "text"),
        "why": (d.why, "dim"),
    }
    write_cells(here.palette, line, columns, 2, cells, on, "id")
    return line
