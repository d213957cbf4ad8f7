"""The Watch view: one row for each identifier, and the ribbon of the one in hand."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from keel.app.desk.naming import terms_of
from keel.app.frame.action import Action, moves
from keel.app.frame.helm import Choice, Helm, Here
from keel.app.frame.steering import BASELINE, HOLD, frames_of, narrow, narrowed, now
from keel.app.frame.view import View
from keel.app.paint.canvas import Line
from keel.app.paint.memo import Memo
from keel.app.paint.nothing import nothing_lines
from keel.app.paint.payload_cell import SIZES, next_form
from keel.app.paint.ribbon import bytes_that_fit
from keel.app.paint.table import Column, fit, header, sized, window
from keel.app.views.watch.below import ribbon_below
from keel.app.views.watch.choices import WatchChoices
from keel.app.views.watch.roster import GROUPS, Heading, Roster, arrange, range_of
from keel.app.views.watch.row import heading_line, row_line
from keel.app.views.watch.wants import Hush, Watched, WatchWant
from keel.media.every import key_words
from keel.model.settings import remember_setting, setting
from keel.model.span import Span

COLUMNS = (
    Column("bus", "bus", 4),
    Column("id", "identifier", 11, True),
    Column("name", "name", 16, drop=1),
    Column("frames", "frames", 9, True, drop=3),
    Column("rate", "rate /s", 8, True),
    Column("cycle", "cycle ms", 9, True, drop=2),
    Column("jitter", "std ms", 8, True, drop=4),
    Column("activity", "activity", 16, drop=6),
    Column("len", "len", 4, True),
    Column("header", "header", 30, drop=3),
    Column("payload", "payload now", 23),
    Column("moved", "changes", 9, True, drop=5),
    Column("faults", "faults", 7, True),
    Column("kept", "kept signals", 17, drop=7),
)
ALWAYS = ("id", "payload")
UPWARD = ("bus", "id", "name", "cycle", "payload")
RIBBON_ROWS = 7
RIBBON_FROM = 18
"""So high a view must be to have the ribbon below the list."""


@dataclass(frozen=True)
class Layout:
    """Where everything stands in a view of some size."""

    roster: Roster
    columns: list[tuple[Column, int]]
    top: int
    room: int
    has_ribbon: bool
    pick: int | None


class Watch(View):
    """The view."""

    def __init__(self) -> None:
        self._arranged: Memo[Roster] = Memo()
        self._remembered = setting("views", "watch hides", frozenset[str](), frozenset[str])
        right = "What lies to the right: bytes of the ribbon"
        self.actions = (
            HOLD,
            *moves(self.move, self._screenful),
            Action(("enter",), "enter", "frames", "Only this, as frames", self.open_row),
            BASELINE,
            Action(("u",), "u", "hush", "Learn what moves by itself, dim it, show it again", self.turn_hush),
            Action(("U",), "U", "", "Learn on what moves by itself", self.learn_on),
            Action(("g",), "g", "group", "Group by bus, by name, by identifiers; or not", self.next_group),
            Action(("G",), "G", "", "Begin a group of identifiers at this row; end it at another", self.draw_group),
            Action(("c",), "c", "", "Choose the columns", self.choose_columns),
            Action(("s",), "s", "sort", "Sort by the next column", self.sort_next),
            Action(("S",), "S", "", "Turn the order round", self.turn_order),
            Action(("left",), "←", "", "What lies to the left: bytes of the ribbon", self._shift(-1)),
            Action(("right",), "→", "", right, self._shift(1)),
            Action(("x",), "x", "hex bits", "Payload as hex, bits, decimal or text", self.next_form),
            Action(("o",), "o", "only", "Only this, or not this", lambda helm: narrow(helm, self.terms(helm.here))),
        )

    def wants(self, here: Here) -> WatchWant:
        """Counts since the baseline, and what is hushed."""
        return WatchWant(here.state.baseline, here.state.hush)

    def at_first(self) -> WatchWant:
        """All of it."""
        return WatchWant()

    # Where everything stands.

    def layout(self, here: Here) -> Layout:
        """What stands where."""
        picture, choices = here.picture, here.state.of(WatchChoices)
        roster = self._arranged.of((picture, choices), lambda: arrange(picture, choices))
        has_ribbon = here.height >= RIBBON_FROM
        room = max(here.height - 1 - (RIBBON_ROWS if has_ribbon else 1), 1)
        pick = here.state.pick if here.state.pick in picture.census else roster.keys[0] if roster.keys else None
        cursor = roster.rows.index(pick) if pick is not None else 0
        top = window(cursor, choices.top, room, len(roster.rows))
        if top == 1 and isinstance(roster.rows[0], Heading):
            top = 0
        shown = [row for row in roster.rows[top : top + room] if isinstance(row, int)]
        return Layout(roster, self._columns(here, shown, choices), top, room, has_ribbon, pick)

    def pick(self, here: Here) -> int | None:
        """The identifier in hand; the first one if none was taken."""
        return self.layout(here).pick

    def _hides(self, choices: WatchChoices) -> frozenset[str]:
        return self._remembered if choices.hides is None else choices.hides

    def _columns(self, here: Here, shown: list[int], choices: WatchChoices) -> list[tuple[Column, int]]:
        picture, width = here.picture, here.width
        kept = any(s.found for m in picture.messages.values() for s in m.signals)
        hides = self._hides(choices)
        has_header = any(map(picture.has_header, shown))
        buses = max((len(picture.bus_name(key)) for key in shown), default=1)
        wanted = tuple(
            sized(c, buses, max((len(key_words(key)) for key in shown), default=0))
            for c in COLUMNS
            if c.name not in hides and (kept or c.name != "kept") and (has_header or c.name != "header")
        )
        placed = fit(wanted, width - 3)
        spare = width - 3 - placed[-1][1] - placed[-1][0].width
        if spare <= 0:
            return placed
        # What is left over goes to the kept signals if they are there, and to payloads that are longer than their room.
        long = max((len(picture.census[key].payload) for key in shown), default=8)
        grown, shift = [], 0
        last = placed[-1][0].name == "kept"
        for column, at in placed:
            extra = 0
            if column.name == "payload":
                extra = min(spare // 2 if last else spare, max(long * SIZES[choices.form] - column.width, 0))
            elif column.name == "kept":
                extra = spare - shift
            grown.append((replace(column, width=column.width + extra), at + shift))
            shift += extra
        return grown

    # Painting.

    def paint(self, here: Here) -> list[Line]:
        """Header, rows, ribbon."""
        picture, width = here.picture, here.width
        if not picture.census:
            return nothing_lines(here.palette, width, picture)
        choices, layout = here.state.of(WatchChoices), self.layout(here)
        rows, watched = layout.roster.rows, picture.part(Watched) or Watched()
        lines = [self._header(here, layout, choices)]
        for row in rows[layout.top : layout.top + layout.room]:
            if isinstance(row, Heading):
                lines.append(heading_line(here, watched, row, layout.columns))
            else:
                silent = layout.roster.silent.get(row)
                lines.append(row_line(here, watched, row, layout.columns, row == layout.pick, choices.form, silent))
        while len(lines) < 1 + layout.room:
            lines.append(here.line())
        if layout.has_ribbon and layout.pick is not None:
            lines += ribbon_below(here, watched, layout.pick, choices)
        else:
            lines.append(here.line())
        below = len(rows) - layout.top - layout.room
        said = ([f"↓ {below} more"] if below > 0 else []) + self._said(here, watched, choices)
        lines[1 + layout.room].put(2, "   ".join(said), here.style("dim"), width - 3)
        return lines

    def _header(self, here: Here, layout: Layout, choices: WatchChoices) -> Line:
        upward = (choices.sort in UPWARD) != choices.turned
        titles = {"payload": f"payload now, {choices.form}"}
        titles[choices.sort] = titles.get(choices.sort, _title(choices.sort)) + ("▲" if upward else "▼")
        return header(here.palette, here.width, layout.columns, 2, titles, choices.sort)

    def _said(self, here: Here, watched: Watched, choices: WatchChoices) -> list[str]:
        """What counts now besides the ask, in words."""
        said, state, picture = [], here.state, here.picture
        zero = picture.zero
        if state.baseline is not None:
            said.append(f"counting since {(state.baseline - zero) / 1e9:.1f} s")
        if watched.hush is not None and state.hush is not None:
            said.append(hush_words(watched.hush, state.hush, picture.snapshot.live))
        elif state.learning is not None:
            learnt = max(picture.snapshot.span.end - state.learning, 0)
            said.append(f"learning what moves by itself, {learnt / 1e9:.1f} s so far; u ends it")
        if choices.drawing is not None:
            said.append(f"a group from {key_words(choices.drawing)} to …: G at its other end")
        return said

    # What people do here.

    def terms(self, here: Here) -> list[str]:
        """What the row in hand says of itself."""
        pick = self.pick(here)
        return terms_of(here.picture, pick) if pick is not None else []

    def _screenful(self, helm: Helm) -> int:
        return self.layout(helm.here).room

    def move(self, helm: Helm, by: int) -> None:
        """Take another row in hand."""
        layout = self.layout(helm.here)
        keys = layout.roster.keys
        if layout.pick is not None:
            self._take(helm, keys[min(max(keys.index(layout.pick) + by, 0), len(keys) - 1)], layout)

    def _take(self, helm: Helm, key: int, layout: Layout) -> None:
        cursor = layout.roster.rows.index(key)
        top = window(cursor, layout.top, layout.room, len(layout.roster.rows))
        state = replace(helm.state, pick=key).having(replace(helm.state.of(WatchChoices), top=top))
        helm.change("pick", state, joins=True)

    def _choose(self, helm: Helm, words: str, change: Callable[[WatchChoices], WatchChoices]) -> None:
        helm.change(words, helm.state.having(change(helm.state.of(WatchChoices))))

    def _shift(self, by: int) -> Callable[[Helm], None]:
        def shift(helm: Helm) -> None:
            here = helm.here
            pick = self.pick(here)
            long = len(here.picture.census[pick].payload) if pick is not None else 0
            most = max(long - bytes_that_fit(here.width), 0)
            old = here.state.of(WatchChoices)
            first = min(max(old.first_byte + by, 0), most)
            helm.change("bytes of the ribbon", here.state.having(replace(old, first_byte=first)), joins=True)

        return shift

    def next_form(self, helm: Helm) -> None:
        """Hex, bits, decimal, text."""
        self._choose(helm, "payload form", lambda c: replace(c, form=next_form(c.form)))

    def sort_next(self, helm: Helm) -> None:
        """Sort by the next column that is shown."""
        shown = [column.name for column, _ in self.layout(helm.here).columns if column.name != "kept"]
        sort = helm.state.of(WatchChoices).sort
        at = shown.index(sort) if sort in shown else -1
        self._sort_by(helm, shown[(at + 1) % len(shown)])

    def turn_order(self, helm: Helm) -> None:
        """Turn the order round."""
        self._sort_by(helm, helm.state.of(WatchChoices).sort)

    def _sort_by(self, helm: Helm, name: str) -> None:
        self._choose(helm, "sort", lambda c: replace(c, sort=name, turned=c.sort == name and not c.turned))

    def next_group(self, helm: Helm) -> None:
        """The next way to group; that of drawn groups only if one was drawn."""
        choices = helm.state.of(WatchChoices)
        ways = [way for way in GROUPS if way != "identifiers" or choices.ranges]
        group = ways[(ways.index(choices.group) + 1) % len(ways)] if choices.group in ways else ""
        self._choose(helm, "group", lambda c: replace(c, group=group))

    def draw_group(self, helm: Helm) -> None:
        """Begin a group at this row, or end it here."""
        pick = self.pick(helm.here)
        begun = helm.state.of(WatchChoices).drawing
        if pick is None:
            return
        if begun is None:
            self._choose(helm, "group begun", lambda c: replace(c, drawing=pick))
        else:
            ranges = (*helm.state.of(WatchChoices).ranges, range_of(begun, pick))
            self._choose(helm, "group", lambda c: replace(c, drawing=None, group="identifiers", ranges=ranges))

    def choose_columns(self, helm: Helm) -> None:
        """Show or hide columns, until the person leaves."""
        hides = self._hides(helm.state.of(WatchChoices))
        choices = [
            Choice(c.name, f"{'○' if c.name in hides else '●'} {c.title}") for c in COLUMNS if c.name not in ALWAYS
        ]

        def chosen(name: str) -> None:
            after = hides ^ {name}
            self._choose(helm, "columns", lambda c: replace(c, hides=after))
            helm.submit(lambda: remember_setting("views", "watch hides", sorted(after)))
            self.choose_columns(helm)

        helm.windows.choose("columns of Watch; enter shows or hides one", choices, chosen)

    def open_row(self, helm: Helm) -> None:
        """The row in hand as frames."""
        pick = self.pick(helm.here)
        if pick is not None:
            frames_of(helm, pick)

    def turn_hush(self, helm: Helm) -> None:
        """Begin to learn, end learning, hush no more: in turn."""
        here, state = helm.here, helm.state
        at = now(here)
        if at is None:
            return
        if state.hush is not None:
            helm.change("hush", replace(state, hush=None, learning=None))
            helm.tell("nothing is hushed any more", 2)
        elif not here.picture.snapshot.live:
            helm.change("hush", replace(state, hush=here.lens))
            helm.tell("hushed: what moved in the lens. Move the lens to see what else moves; u ends it", 5)
        elif state.learning is None:
            self._learn_from(helm, at)
        else:
            helm.change("hush", replace(state, hush=Span(state.learning, at), learning=None))
            helm.tell("hushed: only what moves otherwise lights up; u ends it, U learns on", 4)

    def learn_on(self, helm: Helm) -> None:
        """Go on learning what moves by itself, from where that began."""
        state = helm.state
        if state.hush is None:
            helm.tell("u begins to learn what moves by itself", 3)
        elif not helm.here.picture.snapshot.live:
            helm.tell("nothing comes any more that could be learnt from: u, with a longer lens", 3)
        else:
            self._learn_from(helm, state.hush.start)

    def _learn_from(self, helm: Helm, start: int) -> None:
        helm.change("learning", replace(helm.state, hush=None, learning=start))
        helm.tell("learning what moves by itself: touch nothing, then u again; the longer, the surer", 5)

    def click(self, helm: Helm, x: int, y: int, again: bool) -> None:
        """A header sorts, a row is picked, a second click opens it; that of a group opens the group."""
        layout = self.layout(helm.here)
        if y == 0:
            for column, at in layout.columns:
                if 2 + at <= x < 2 + at + column.width and column.name != "kept":
                    self._sort_by(helm, column.name)
            return
        at = layout.top + y - 1
        if y > layout.room or at >= len(layout.roster.rows):
            return
        row = layout.roster.rows[at]
        if isinstance(row, Heading):
            if again and row.ask:
                state = replace(helm.state, view="frames", ask=narrowed(helm, row.ask), frame=None)
                helm.change("frames of a group", state)
            return
        self._take(helm, row, layout)
        if again:
            frames_of(helm, row)

    def wheel(self, helm: Helm, by: int) -> None:
        """The wheel moves the pick."""
        self.move(helm, by)


def _title(name: str) -> str:
    return next(column.title for column in COLUMNS if column.name == name)


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
