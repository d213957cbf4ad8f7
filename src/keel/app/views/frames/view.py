"""The Frames view: what ask and lens leave, in order, and the frame in hand taken apart beside it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from keel.app.desk.edits import note_on
from keel.app.desk.frame_pages import SHOWN_OF_EACH, Page, fetch, next_fault, recent, terms_of, whole_frame
from keel.app.frame.action import Action, moves
from keel.app.frame.helm import Helm, Here
from keel.app.frame.steering import narrow
from keel.app.frame.view import View
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.memo import Memo
from keel.app.paint.nothing import nothing_lines
from keel.app.paint.payload_cell import SIZES, next_form
from keel.app.paint.table import Column, fit, grow, header, width_of, window
from keel.app.views.frames.anatomy import Subject, anatomy
from keel.app.views.frames.choices import FramesChoices
from keel.app.views.frames.going import goal_of
from keel.app.views.frames.row import frame_line, time_decimals

ANATOMY_WIDTH = 48
ANATOMY_FROM = 130
SHIFTS = ((64, 1), (1024, 8))
"""Payloads up to so many bytes are passed through so many at a time."""
TIMES = ("elapsed", "clock", "zeroed")
"""The ways to say when a frame was; the one chosen stays, the others drop first."""
OF_TIME = (*TIMES, "shown", "same")
COLUMNS = (
    Column("number", "number", 9, True, drop=2),
    Column("clock", "clock UTC", 15, True, drop=9),
    Column("elapsed", "elapsed s", 12, True, drop=9),
    Column("zeroed", "from zero", 15, True, drop=9),
    Column("shown", "Δ row", 11, True),
    Column("same", "Δ same id", 11, True),
    Column("bus", "bus", 3, drop=3),
    Column("id", "identifier", 10, True),
    Column("name", "name", 14, drop=6),
    Column("dir", "dir", 3, drop=7),
    Column("len", "len", 3, True, drop=1),
    Column("volts", "volts", 9, True, drop=4),
    Column("header", "header", 26, drop=8),
    Column("payload", "payload", 23),
    Column("kept", "kept signals", 16, drop=5),
)
YIELDING = ("zeroed", "clock", "elapsed", "dir", "shown", "name", "kept", "bus", "number", "len", "volts", "header")
"""The order in which columns give way until the payloads fit; the time that is chosen stays."""


@dataclass(frozen=True)
class Layout:
    """Where everything stands: the rank of the first frame shown and of the one in hand, rows, the list's width."""

    top: int
    cursor: int
    rows: int
    table: int
    follows: bool


class Frames(View):
    """The view."""

    counts = False

    def __init__(self) -> None:
        self._page: Memo[Page] = Memo()
        self._notes: Memo[dict[int, str]] = Memo()
        self.actions = (
            Action(("space",), "space", "follow", "Follow the newest frame, or stop following", self.turn_following),
            *moves(self.move, lambda helm: self.layout(helm.here).rows),
            Action(("left",), "←", "", "Earlier bytes of the payloads", self._shift(-1)),
            Action(("right",), "→", "", "Later bytes of the payloads", self._shift(1)),
            Action(("n",), "n N", "match", "The next frame that meets the ask", lambda helm: self.move(helm, 1)),
            Action(("N",), "N", "", "The frame before that meets the ask", lambda helm: self.move(helm, -1)),
            Action(("f",), "f F", "fault", "The next faulty frame", lambda helm: self._to_fault(helm, True)),
            Action(("F",), "F", "", "The faulty frame before", lambda helm: self._to_fault(helm, False)),
            Action(("t",), "t", "times", "Time as clock, elapsed, or from zero", self.next_time),
            Action(("z",), "z", "zero", "Set zero at the frame in hand, or back to the beginning", self.set_zero),
            Action(("colon",), ":", "go to", "Go to a frame by its number, or to a time", self.ask_where),
            Action(("c",), "c", "note", "Write a note on the frame in hand", self.write_note),
            Action(("x",), "x", "hex bits", "Payload as hex, bits, decimal or text", self.next_form),
            Action(("a",), "a", "anatomy", "Take the frame in hand apart beside the list, or not", self.turn_anatomy),
            Action(("o",), "o", "only", "Only this, or not this", lambda helm: narrow(helm, self.terms(helm.here))),
        )

    # Where everything stands.

    def layout(self, here: Here) -> Layout:
        """What stands where."""
        picture, state, choices = here.picture, here.state, here.state.of(FramesChoices)
        count = len(picture.matches)
        # Below the rows stands how many are newer, so that it covers none.
        newer = 1 if picture.snapshot.live and state.frame is not None else 0
        rows = max(here.height - 1 - newer, 1)
        aside = ANATOMY_WIDTH if here.width >= ANATOMY_FROM and choices.anatomy else 0
        if aside and here.width > 190:
            aside += 22
        last = max(count - 1, 0)
        if state.frame is None:
            follows = picture.was_live
            cursor = last if follows else 0
            top = max(count - rows, 0) if follows else 0
        else:
            follows = False
            cursor = min(picture.matches.rank(state.frame), last)
            top = cursor - rows // 2 if choices.top is None else picture.matches.rank(choices.top)
        return Layout(window(cursor, top, rows, count), cursor, rows, here.width - aside, follows)

    def page(self, here: Here, layout: Layout) -> Page:
        """The frames on the screen."""
        made_of = (here.picture.matches, layout.top, layout.rows)
        return self._page.of(made_of, lambda: fetch(here.picture, layout.top, layout.rows))

    def number(self, here: Here) -> int | None:
        """The number of the frame in hand."""
        matches, cursor = here.picture.matches, self.layout(here).cursor
        return int(matches.numbers(cursor, cursor + 1)[0]) if len(matches) else None

    def pick(self, here: Here) -> int | None:
        """The identifier of the frame in hand."""
        layout = self.layout(here)
        if not len(here.picture.matches):
            return None
        return int(self.page(here, layout).batch.keys()[layout.cursor - layout.top])

    def moment(self, here: Here) -> int | None:
        """When the frame in hand was, unless the newest are followed."""
        number = self.number(here)
        if number is None or self.layout(here).follows:
            return None
        return int(here.picture.snapshot.rows(number, number + 1).time[0])

    def standing(self, here: Here) -> tuple[str, ...]:
        """Where the frame in hand stands among the matches."""
        count, layout = len(here.picture.matches), self.layout(here)
        if not count:
            return ()
        said = (f"frame {words.count(layout.cursor + 1)} of {words.count(count)}",)
        return (*said, "following the newest") if layout.follows and here.picture.snapshot.live else said

    # Painting.

    def paint(self, here: Here) -> list[Line]:
        """Header and rows, and beside them the anatomy."""
        picture = here.picture
        if not len(picture.matches):
            return nothing_lines(here.palette, here.width, picture)
        choices, layout = here.state.of(FramesChoices), self.layout(here)
        page = self.page(here, layout)
        columns = self._columns(here, layout.table, page, choices)
        titles = {"payload": f"payload, {choices.form}", "volts": ", ".join(f"{name} V" for name, _ in page.volts)}
        lines = [header(here.palette, here.width, columns, 2, titles)]
        notes = self._noted(here)
        for i in range(len(page.numbers)):
            in_hand = page.top + i == layout.cursor
            lines.append(frame_line(here, page, i, columns, layout.table, in_hand, choices, notes))
        while len(lines) < here.height:
            lines.append(here.line())
        if layout.table < here.width:
            self._beside(here, lines, page, layout, notes)
        self._say_newer(here, lines[-1], layout, choices)
        return lines

    def _columns(self, here: Here, width: int, page: Page, choices: FramesChoices) -> list[tuple[Column, int]]:
        picture = here.picture
        seen = [picture.messages[k] for k in set(page.batch.keys().tolist()) if k in picture.messages]
        kept = any(s.found for message in seen for s in message.signals)
        absent = {"kept": not kept, "header": not picture.has_headers, "volts": not page.volts}
        wanted = [self._sized(here, c, page, choices) for c in COLUMNS if not absent.get(c.name)]
        long = int(page.sizes.max(initial=0)) if len(page.numbers) else 8
        needs = long * SIZES[choices.form] - (0 if choices.form == "text" else 1)
        least = min(needs, 8 * SIZES[choices.form] - 1)
        for name in YIELDING:
            # Columns give way until eight bytes fit, but for what says when and who.
            if sum(c.width + 1 for c in wanted) - _width(wanted, "payload") + least <= width - 4:
                break
            if name != choices.time:
                wanted = [c for c in wanted if c.name != name]
        wanted = [replace(c, width=max(c.width, least)) if c.name == "payload" else c for c in wanted]
        placed = fit(tuple(wanted), width - 4)
        spare = width - 4 - placed[-1][1] - placed[-1][0].width
        if spare > 0:
            placed = grow(placed, "payload", min(spare, max(needs - width_of(placed, "payload"), 0)))
        spare = width - 4 - placed[-1][1] - placed[-1][0].width
        return grow(placed, "kept" if kept else "payload", spare) if spare > 0 else placed

    def _sized(self, here: Here, column: Column, page: Page, choices: FramesChoices) -> Column:
        """A column as it is wanted now: the chosen time stays, numbers and bus names have room for all of them."""
        manifest, frames = here.picture.snapshot.manifest, here.picture.snapshot.frames
        if column.name in OF_TIME:
            column = replace(column, width=column.width + time_decimals(manifest.lines) - 6)
        if column.name == "clock" and not manifest.is_dated:
            column = replace(column, title="clock")
        if column.name == choices.time:
            return replace(column, drop=0)
        if column.name == "volts":
            titles = sum(len(name) + 4 for name, _ in page.volts)
            return replace(column, width=max(8 * len(page.volts), titles, column.width))
        if column.name == "number":
            return replace(column, width=max(column.width, len(words.count(frames))))
        if column.name == "bus":
            longest = max((len(bus.name) for bus in manifest.buses), default=1)
            return replace(column, width=min(max(column.width, longest + 1), 12))
        if column.name == "len":
            return replace(column, width=max(column.width, len(str(int(page.sizes.max(initial=0))))))
        if column.name == "id":
            return replace(column, width=here.picture.ident_cells if here.picture.ident_cells > 11 else column.width)
        return column

    def _noted(self, here: Here) -> dict[int, str]:
        """The notes on frames by number."""
        kept = here.picture.snapshot.manifest.comments
        return self._notes.of((kept,), lambda: {comment.number: comment.text for comment in kept})

    def _beside(self, here: Here, lines: list[Line], page: Page, layout: Layout, notes: dict[int, str]) -> None:
        at, width = layout.table, here.width - layout.table
        for line in lines:
            line.put(at - 1, "│", here.style("line"))
        i = layout.cursor - page.top
        if not 0 <= i < len(page.numbers):
            return
        number = int(page.numbers[i])
        last = recent(here.picture, number)
        shift = here.state.of(FramesChoices).shift
        frame = page.batch.slice(i, i + 1)
        if int(page.sizes[i]) > SHOWN_OF_EACH:
            frame = whole_frame(here.picture, number)
        subject = Subject(number, frame, page.before[i], *last, notes.get(number, ""))
        panel = anatomy(here.palette, width - 2, here.height, subject, here.picture, shift)
        for row, line in enumerate(panel[: here.height]):
            lines[row].paste(at + 1, line)

    def _say_newer(self, here: Here, line: Line, layout: Layout, choices: FramesChoices) -> None:
        """How many frames lie below, and how many came since following ended."""
        count = len(here.picture.matches)
        below = count - layout.top - layout.rows
        if layout.follows or below <= 0 or not here.picture.snapshot.live:
            return
        text = f" ↓ {words.count(below)} newer below"
        if choices.seen is not None and (since := count - here.picture.matches.rank(choices.seen)) > 0:
            text += f", {words.count(since)} since you stopped"
        text += " · space follows "
        line.put(max(layout.table - len(text) - 3, 0), text, here.style("ink", "brass", True), layout.table - 2)

    # What people do here.

    def terms(self, here: Here) -> list[str]:
        """What the frame in hand says of itself."""
        layout = self.layout(here)
        if not len(here.picture.matches):
            return []
        return terms_of(here.picture, self.page(here, layout), layout.cursor - layout.top)

    def _choose(self, helm: Helm, what: str, joins: bool = False, **to: object) -> None:
        choices = replace(helm.state.of(FramesChoices), **to)  # type: ignore[arg-type]
        helm.change(what, helm.state.having(choices), joins)

    def move(self, helm: Helm, by: int) -> None:
        """Take another frame in hand; that ends following."""
        here = helm.here
        layout, count = self.layout(here), len(here.picture.matches)
        if not count:
            return
        cursor = min(max(layout.cursor + by, 0), count - 1)
        top = window(cursor, layout.top, layout.rows, count)
        self._take(helm, cursor, top)

    def _take(self, helm: Helm, cursor: int, top: int | None) -> None:
        """Take the frame of a rank in hand, with another rank on top; None puts it in the middle."""
        here, state = helm.here, helm.state
        matches, choices = here.picture.matches, state.of(FramesChoices)
        seen = here.picture.snapshot.frames if state.frame is None else choices.seen
        first = None if top is None else int(matches.numbers(top, top + 1)[0])
        number = int(matches.numbers(cursor, cursor + 1)[0])
        key = int(here.picture.snapshot.rows(number, number + 1).keys()[0])
        new = replace(state, frame=number, pick=key).having(replace(choices, top=first, seen=seen))
        helm.change("frame", new, joins=True)

    def turn_following(self, helm: Helm) -> None:
        """Follow the newest, or stop."""
        layout, matches = self.layout(helm.here), helm.here.picture.matches
        if not len(matches):
            return
        if layout.follows:
            self._take(helm, layout.cursor, layout.top)
        elif helm.here.picture.was_live:
            helm.change("frame", replace(helm.state, frame=None), joins=True)
        else:
            self._take(helm, len(matches) - 1, max(len(matches) - layout.rows, 0))

    def _shift(self, by: int) -> Callable[[Helm], None]:
        def shift(helm: Helm) -> None:
            page = self.page(helm.here, self.layout(helm.here))
            longest = int(page.sizes.max(initial=1))
            # Through long payloads in rows, through very long ones in screenfuls.
            step = next((step for most, step in SHIFTS if longest <= most), 128)
            old = helm.state.of(FramesChoices).shift
            self._choose(helm, "bytes of the payloads", True, shift=min(max(old + by * step, 0), longest - 1))

        return shift

    def next_time(self, helm: Helm) -> None:
        """Time as clock, elapsed, or from zero."""
        now = helm.state.of(FramesChoices).time
        self._choose(helm, "times", time=TIMES[(TIMES.index(now) + 1) % len(TIMES)])

    def next_form(self, helm: Helm) -> None:
        """Hex, bits, decimal, text."""
        self._choose(helm, "payload form", form=next_form(helm.state.of(FramesChoices).form))

    def turn_anatomy(self, helm: Helm) -> None:
        """Show the anatomy, or not."""
        self._choose(helm, "anatomy", anatomy=not helm.state.of(FramesChoices).anatomy)

    def set_zero(self, helm: Helm) -> None:
        """Zero at the frame in hand, or the beginning again."""
        number = self.number(helm.here)
        if number is not None:
            time = int(helm.here.picture.snapshot.rows(number, number + 1).time[0])
            helm.change("zero", replace(helm.state, zero=None if helm.state.zero == time else time))

    def _to_fault(self, helm: Helm, forward: bool) -> None:
        here, number = helm.here, self.number(helm.here)
        if number is None:
            return
        found = next_fault(here.picture, number, forward)
        if found is None:
            helm.tell(f"no faulty frame {'after' if forward else 'before'} this one", 2)
        else:
            self._take(helm, here.picture.matches.rank(found), None)

    def ask_where(self, helm: Helm) -> None:
        """Ask where to go."""
        whole, snapshot = helm.here.picture.whole, helm.here.picture.snapshot
        is_dated = snapshot.manifest.is_dated
        example = "12.5s, 1min, 09:48:12.5" if is_dated else "12.5s, -3ms, 1min"

        def go(answer: str) -> None:
            try:
                what, which = goal_of(answer, whole, snapshot.zero, is_dated)
            except ValueError:
                helm.tell(f"“{answer}” is neither a frame's number nor a time as {example}", 4, error=True)
                return
            last = snapshot.frames - 1
            number = min(max(which - 1, 0), last) if what == "frame" else helm.here.picture.matches.frame_at(which)
            if number is not None:
                self._go(helm, number)

        hint = f"a number as 12345, or a time as {example}   enter go   esc stay"
        helm.windows.text("Go to a frame or a time", hint, "", go)

    def _go(self, helm: Helm, number: int) -> None:
        choices = replace(helm.state.of(FramesChoices), top=None)
        helm.change("go to", replace(helm.state, frame=number).having(choices))

    def to_moment(self, helm: Helm, time: int) -> bool:
        """To the frame of a moment."""
        number = helm.here.picture.matches.frame_at(time)
        if number is not None:
            self._go(helm, number)
        return True

    def write_note(self, helm: Helm) -> None:
        """Write a note on the frame in hand; an empty one removes it."""
        here, number = helm.here, self.number(helm.here)
        if number is None:
            return
        what = f"note on frame {number + 1}"
        title, hint = f"A {what}", "enter keeps it; empty removes it   esc leave"
        old = self._noted(here).get(number, "")
        helm.windows.text(title, hint, old, lambda text: helm.edit(what, note_on(number, text)), empty=True)

    def click(self, helm: Helm, x: int, y: int, again: bool) -> None:
        """Take the clicked frame in hand."""
        layout = self.layout(helm.here)
        row = layout.top + y - 1
        if 1 <= y <= layout.rows and x < layout.table and row < len(helm.here.picture.matches):
            self._take(helm, row, layout.top)

    def wheel(self, helm: Helm, by: int) -> None:
        """Earlier or later frames."""
        self.move(helm, by)


def _width(columns: list[Column], name: str) -> int:
    return next((column.width for column in columns if column.name == name), 0)
