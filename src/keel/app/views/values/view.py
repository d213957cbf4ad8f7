"""The Values view: a board of decoded signals, and plots of up to eight of them over the lens."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from keel.app.desk import edits
from keel.app.desk.deeds import Plan
from keel.app.desk.readings import no_readings, number_in, reading, readings_of_file
from keel.app.frame.action import Action, moves
from keel.app.frame.helm import Helm, Here, Offer
from keel.app.frame.steering import HOLD
from keel.app.frame.view import View
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.memo import Memo
from keel.app.paint.plots import COLOURS, GUTTER, Plot, Plots, cursor_words, draw_plots
from keel.app.paint.table import window
from keel.app.views.values.board import Row, board_line, heading, rows_of
from keel.app.views.values.choices import Name, ValuesChoices
from keel.app.views.values.offers import offers_of
from keel.app.views.values.wants import ValuesShown, ValuesWant

MOST_PLOTS = len(COLOURS)
STRIP = 7
"""Rows that a plot of its own likes to have."""
PLOTS_FROM = 22
"""So high a view must be to have plots below the board."""


@dataclass(frozen=True)
class Layout:
    """Where everything stands: rows of the board, the one in hand (None if there is none), the plots' rows."""

    rows: tuple[Row, ...]
    cursor: int | None
    top: int
    room: int
    below: int
    plotted: tuple[Name, ...]

    @property
    def row(self) -> Row | None:
        """The row in hand."""
        return self.rows[self.cursor] if self.cursor is not None else None


class Values(View):
    """The view."""

    def __init__(self) -> None:
        self._rows: Memo[tuple[Row, ...]] = Memo()
        self.actions = (
            HOLD,
            *moves(self.move, lambda helm: self.layout(helm.here).room),
            Action(("left",), "←", "", "The cursor to earlier", self._shift(-1)),
            Action(("right",), "→", "", "The cursor to later", self._shift(1)),
            Action(("enter",), "enter", "plot", "Draw this signal too, or no longer", self.turn_plot),
            Action(("c",), "c", "cursors", "A cursor on the plots, then a second, then none", self.next_cursor),
            Action(("tab",), "tab", "", "The other cursor moves with ← and →", self.other_cursor),
            Action(("v",), "v", "over", "Plots over each other, or one above the other", self.turn_stacked),
            Action(("escape",), "esc", "", "Draw only the signal in hand", self.no_plots),
            Action(("x",), "x", "expect", "Type what the device displays, and see the difference", self.expect),
            Action(("g",), "g", "boards", "By message, or the next board of your own", self.next_board),
            Action(("P",), "P", "to board", "Put this signal on a board of your own, or take it off", self.to_board),
            Action(("h",), "h", "", "Show counters, checksums and selectors too", self.turn_counters),
        )

    # Where everything stands.

    def layout(self, here: Here) -> Layout:
        """What stands where."""
        choices, picture = here.state.of(ValuesChoices), here.picture
        made_of = (picture, choices.board, choices.counters)
        rows = self._rows.of(made_of, lambda: rows_of(picture, choices.board, choices.counters))
        signals = [i for i, row in enumerate(rows) if row.name is not None]
        cursor = next((i for i in signals if rows[i].name == choices.in_hand), signals[0] if signals else None)
        in_hand = rows[cursor].name if cursor is not None else None
        plotted = choices.chosen or ((in_hand,) if in_hand is not None else ())
        known = sum(1 for name in plotted if picture.snapshot.book.spoken(name[0]) is not None)
        strips = known if choices.stacked else 1 + known / 4
        height = here.height
        below = min(max(int(strips * STRIP) + 2, 10), height - 9) if height >= PLOTS_FROM and known else 0
        below = max(below, height - 3 - len(rows)) if below else 0
        room = max(height - 2 - below, 1)
        return Layout(rows, cursor, window(cursor or 0, choices.top, room, len(rows)), room, below, plotted)

    def wants(self, here: Here) -> ValuesWant:
        """The signals on the screen, and what is drawn."""
        layout, choices = self.layout(here), here.state.of(ValuesChoices)
        shown = layout.rows[layout.top : layout.top + layout.room]
        expected = {r.of: r.time for r in here.picture.snapshot.manifest.readings}
        moments = tuple((row.name, expected[row.full]) for row in shown if row.name and row.full in expected)
        board = tuple(row.name for row in shown if row.name is not None)
        return ValuesWant(board, layout.plotted, _across(here) * 2, choices.cursors, moments)

    def at_first(self) -> ValuesWant:
        """Nothing: which signals there are is not known yet."""
        return ValuesWant()

    def pick(self, here: Here) -> int | None:
        """The identifier of the signal in hand."""
        row = self.layout(here).row
        return row.name[0] if row is not None and row.name is not None else None

    # Painting.

    def paint(self, here: Here) -> list[Line]:
        """Title, board, plots."""
        layout, choices = self.layout(here), here.state.of(ValuesChoices)
        if not layout.rows or layout.cursor is None:
            return _empty(here, choices)
        lines = [self._title(here, layout, choices), heading(here)]
        shown = here.picture.part(ValuesShown) or ValuesShown()
        for i in range(layout.top, min(layout.top + layout.room, len(layout.rows))):
            lines.append(self._line(here, layout, shown, layout.rows[i], i == layout.cursor, choices))
        while len(lines) < here.height - layout.below:
            lines.append(here.line())
        if layout.below:
            plots = _plots(here, layout, shown, choices)
            what = Plots(plots, choices.cursors, choices.active, here.picture.zero, choices.stacked)
            lines += draw_plots(here.palette, here.width, layout.below, what)
        return lines

    def _line(
        self, here: Here, layout: Layout, shown: ValuesShown, row: Row, in_hand: bool, choices: ValuesChoices
    ) -> Line:
        if row.name is None:
            line = here.line()
            line.put(2, row.title, here.style("sea"))
            return line
        colour = layout.plotted.index(row.name) if row.name in layout.plotted else None
        said = [r for r in here.picture.snapshot.manifest.readings if r.of == row.full]
        expected = (said[-1].value, shown.at.get((row.name, said[-1].time))) if said else None
        course = shown.courses.get(row.name)
        return board_line(here, row, course, colour, in_hand, choices.board is not None, expected)

    def _title(self, here: Here, layout: Layout, choices: ValuesChoices) -> Line:
        line = here.line()
        count = sum(row.name is not None for row in layout.rows)
        at = line.put(2, "what do the devices say?", here.style("strong", bold=True)) + 3
        by = f"board {choices.board}" if choices.board is not None else "by message"
        at = line.put(at, f"{count} {'signal' if count == 1 else 'signals'}, {by}", here.style("dim")) + 3
        if choices.cursors:
            text = cursor_words(choices.cursors, here.picture.zero)
            line.put(at, text, here.style("brass"), max(here.width - at - 1, 0))
        elif choices.chosen:
            line.put(at, f"{len(choices.chosen)} of {MOST_PLOTS} plots", here.style("brass"))
        return line

    # What people do here.

    def _choose(self, helm: Helm, words: str, joins: bool = False, **to: object) -> None:
        choices = replace(helm.state.of(ValuesChoices), **to)  # type: ignore[arg-type]
        helm.change(words, helm.state.having(choices), joins)

    def move(self, helm: Helm, by: int) -> None:
        """Take another signal in hand; headings are passed by."""
        layout = self.layout(helm.here)
        signals = [i for i, row in enumerate(layout.rows) if row.name is not None]
        if layout.cursor is not None:
            at = signals.index(layout.cursor) + by
            self._take(helm, layout, signals[min(max(at, 0), len(signals) - 1)])

    def _take(self, helm: Helm, layout: Layout, cursor: int) -> None:
        name = layout.rows[cursor].name
        if name is None:
            return
        choices = replace(helm.state.of(ValuesChoices), in_hand=name, top=layout.top)
        helm.change("signal", replace(helm.state, pick=name[0]).having(choices), joins=True)

    def turn_plot(self, helm: Helm) -> None:
        """Draw the signal in hand too, or no longer."""
        row, chosen = self.layout(helm.here).row, helm.state.of(ValuesChoices).chosen
        if row is None or row.name is None:
            return
        if row.name in chosen:
            self._choose(helm, "plot removed", chosen=tuple(name for name in chosen if name != row.name))
        elif len(chosen) < MOST_PLOTS:
            self._choose(helm, "plot", chosen=(*chosen, row.name))
        else:
            helm.tell(f"{MOST_PLOTS} plots are the most; enter on one of them takes it away", 3)

    def no_plots(self, helm: Helm) -> None:
        """Draw only the signal in hand."""
        self._choose(helm, "plots removed", chosen=())

    def turn_stacked(self, helm: Helm) -> None:
        """Plots one above the other, or over each other."""
        self._choose(helm, "plots over each other", stacked=not helm.state.of(ValuesChoices).stacked)

    def next_cursor(self, helm: Helm) -> None:
        """A cursor, then the other, then none."""
        lens, cursors = helm.here.lens, helm.state.of(ValuesChoices).cursors
        if len(cursors) < 2:
            at = lens.start + (lens.end - lens.start) * (1, 2)[len(cursors)] // 3
            self._choose(helm, "cursor", cursors=(*cursors, at), active=len(cursors))
        else:
            self._choose(helm, "cursors removed", cursors=(), active=0)

    def other_cursor(self, helm: Helm) -> None:
        """The other cursor moves."""
        choices = helm.state.of(ValuesChoices)
        if len(choices.cursors) == 2:
            self._choose(helm, "the other cursor", active=1 - choices.active)

    def _shift(self, by: int) -> Callable[[Helm], None]:
        def shift(helm: Helm) -> None:
            here, choices = helm.here, helm.state.of(ValuesChoices)
            if choices.cursors:
                lens = here.lens
                step = max((lens.end - lens.start) // _across(here), 1)
                self._set_cursor(helm, choices.cursors[choices.active] + by * step)

        return shift

    def _set_cursor(self, helm: Helm, time: int) -> None:
        lens, choices = helm.here.lens, helm.state.of(ValuesChoices)
        cursors = list(choices.cursors or (lens.start,))
        active = min(choices.active, len(cursors) - 1)
        cursors[active] = min(max(time, lens.start), lens.end - 1)
        self._choose(helm, "cursor moved", True, cursors=tuple(cursors), active=active)

    def next_board(self, helm: Helm) -> None:
        """By message, or the next of the boards of one's own."""
        boards: list[str | None] = [None, *(p.name for p in helm.here.picture.snapshot.manifest.boards)]
        if len(boards) == 1:
            helm.tell("no board of your own yet: P puts the signal in hand on one", 3)
            return
        now = helm.state.of(ValuesChoices).board
        self._choose(helm, "board", board=boards[(boards.index(now) + 1) % len(boards)] if now in boards else None)

    def to_board(self, helm: Helm) -> None:
        """Put the signal in hand on a board, or take it off."""
        row, boards = self.layout(helm.here).row, helm.here.picture.snapshot.manifest.boards
        if row is None or row.name is None:
            return
        proposal = helm.state.of(ValuesChoices).board or (boards[-1].name if boards else "mine")
        full = row.full

        def named(name: str) -> None:
            helm.edit(f"board {name}", edits.turn_on_board(name, full), lambda: f"{full}: board {name}; g shows it")

        hint = "a board it is on already loses it   enter keep   esc leave"
        helm.windows.text(f"The board for {full}", hint, proposal, named)

    def turn_counters(self, helm: Helm) -> None:
        """Show counters, checksums and selectors too, or not."""
        self._choose(helm, "counters", counters=not helm.state.of(ValuesChoices).counters)

    def expect(self, helm: Helm) -> None:
        """Type what the device displays; empty forgets what was typed for this signal."""
        picture, row, choices = helm.here.picture, self.layout(helm.here).row, helm.state.of(ValuesChoices)
        if row is None or row.name is None:
            return
        moment = choices.cursors[choices.active] if choices.cursors else helm.here.lens.end - 1
        start, full = picture.zero, row.full

        def typed(text: str) -> None:
            number = number_in(text)
            if not text:
                helm.edit(f"expected {full}", no_readings(full))
            elif number is not None:
                helm.edit(f"expected {full}", reading(moment, number, full))
            else:

                def read(_: object) -> Plan:
                    from pathlib import Path

                    return readings_of_file(Path(text).expanduser(), full, start)

                helm.behind(read, lambda plan: helm.edit(f"expected {full}", plan))

        at = words.seconds(moment - start)
        hint = "a number, or the name of a file of times and values; empty removes it   enter keep   esc leave"
        helm.windows.text(f"What {full} should be at {at} s", hint, "", typed, empty=True)

    def offers(self, here: Here) -> list[Offer]:
        """The plots, and the values behind them."""
        return offers_of(here, self.layout(here).plotted, here.state.of(ValuesChoices).cursors)

    def click(self, helm: Helm, x: int, y: int, again: bool) -> None:
        """Take the clicked signal in hand, or move the cursor there."""
        here = helm.here
        layout = self.layout(here)
        row = layout.top + y - 2
        if 2 <= y < 2 + layout.room and row < len(layout.rows):
            self._take(helm, layout, row)
            if again:
                self.turn_plot(helm)
        elif y >= 2 + layout.room and x >= GUTTER:
            lens, across = here.lens, _across(here)
            share = min(max(x - GUTTER, 0), across)
            self._set_cursor(helm, lens.start + (lens.end - lens.start) * share // across)

    def wheel(self, helm: Helm, by: int) -> None:
        """Another signal."""
        self.move(helm, by)


def _across(here: Here) -> int:
    return max(here.width - GUTTER - 1, 1)


def _plots(here: Here, layout: Layout, shown: ValuesShown, choices: ValuesChoices) -> list[Plot]:
    plots = []
    for name in layout.plotted:
        envelope, message = shown.envelopes.get(name), here.picture.snapshot.book.spoken(name[0])
        if envelope is None or message is None:
            continue
        full = f"{message.name}.{name[1]}"
        said = [(r.time, r.value) for r in here.picture.snapshot.manifest.readings if r.of == full]
        at = [shown.at.get((name, cursor)) for cursor in choices.cursors]
        plots.append(Plot(full, envelope.signal, envelope, said, at))
    return plots


def _empty(here: Here, choices: ValuesChoices) -> list[Line]:
    lines = [here.line() for _ in range(8)]
    if choices.board is not None:
        lines[1].put(4, f"Nothing on board {choices.board} is on the bus here.", here.style("strong", bold=True))
        lines[3].put(4, "g", here.style("brass", bold=True))
        lines[3].put(8, "shows the next board, or all messages again", here.style("text"))
        return lines
    lines[1].put(4, "No signal is known here.", here.style("strong", bold=True))
    wider = "or widen the ask: it leaves no frame of a known message" if here.state.ask else "ask for other frames"
    texts = (
        ("D", "use a dictionary: a signal database (.dbc) or Keel's own form (.toml)"),
        ("4", "hunt for a field and keep it as a signal"),
        ("/", wider),
    )
    for line, (key, text) in zip(lines[3:], texts, strict=False):
        line.put(4, key, here.style("brass", bold=True))
        line.put(8, text, here.style("text"))
    return lines
