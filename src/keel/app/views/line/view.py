"""The Line view: waveforms with what was read of them over them, cursors, steps, and how a line is read."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Literal

from keel.app.frame.action import Action
from keel.app.frame.helm import Choice, Helm, Here, Offer
from keel.app.frame.steering import HOLD
from keel.app.frame.view import View
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.views.line.by_hand import Exchanged, read_anew
from keel.app.views.line.channels import choose_shown, hide, move
from keel.app.views.line.choices import FORMS, SHORTEST, STEPS, LineChoices
from keel.app.views.line.facts import cursor_lines, fact_lines, field_lines
from keel.app.views.line.found import ACTIONS, ask_condition, found_lines
from keel.app.views.line.going import go_to, length, look, with_line
from keel.app.views.line.lanes import (
    GUTTER,
    Place,
    axis_lines,
    draw_cursors,
    frame_lines,
    wave_lines,
)
from keel.app.views.line.layout import (
    Layout,
    across,
    bit_of,
    layout_of,
    line_of,
    line_read_of,
    over_rows,
    shows_bits,
)
from keel.app.views.line.marking import mark_crossings
from keel.app.views.line.measures import choose_beside, choose_worst, measure_lines, turn_margins
from keel.app.views.line.messages import message_lines, row_in_hand
from keel.app.views.line.moments import clock_of
from keel.app.views.line.reading import actions_of, begin, reading_lines
from keel.app.views.line.steps import Goal, goal_of
from keel.app.views.line.trial import Trial, as_read
from keel.app.views.line.wants import LineShown, LineWant
from keel.model.span import Span
from keel.store.waveform_entries import line_of_channel

if TYPE_CHECKING:
    from keel.app.shared.state import State
    from keel.probe.looking import Lane, SeenFrame
    from keel.store.manifest import Manifest
    from keel.store.waveform_entries import LineEntry, WaveformEntry

MOVES = 8
"""The lens is moved by such a part of itself."""


class LineView(View):
    """The view."""

    def __init__(self) -> None:
        up, down = (lambda helm: self.take(helm, -1)), (lambda helm: self.take(helm, 1))
        read_as = "Say how this line is to be read: code, rate or bit time, roles, threshold, settings"
        self.actions = (
            HOLD,
            Action(("left",), "← →", "move", "Earlier: the cursor, or the lens", self._shift(-1)),
            Action(("right",), "→", "", "Later: the cursor, or the lens", self._shift(1)),
            Action(("up", "k"), "↑ ↓", "", "The channel above; in the table the message before", up),
            Action(("down", "j"), "↓", "", "The channel below; in the table the next message", down),
            Action(("n",), "n N", "next", "Step to the next of what s chose", lambda helm: self.step(helm, True)),
            Action(("N",), "N", "", "Step to the one before", lambda helm: self.step(helm, False)),
            Action(("s",), "s", "step by", "Choose what n and N step by: frames, edges, bits …", self.choose_step),
            Action(("c",), "c", "cursors", "A cursor, then a second, then none", self.next_cursor),
            Action(("tab",), "tab", "", "The other cursor moves", self.other_cursor),
            Action(("enter",), "enter", "frames", "The frame in hand in Frames", self.to_frames),
            Action(("x",), "x", "read as", read_as, self.by_hand),
            Action(("t",), "t", "table", "List the messages in the lens, or the facts again", turn_table),
            Action(("v",), "v", "margins", "How close to failure this line is, or the facts again", self.margins),
            Action(("f",), "f", "find", "Look for pulses that are too short, silences, runts", self.find),
            Action(("X",), "X", "", "Bytes in hex, decimal or as text", next_form),
            Action(("a",), "a", "", "Read this line anew, all by itself", lambda helm: self.anew(helm, Trial(""))),
            Action(("b",), "b", "", "Hold another line beside this one, as before and after", self.beside),
            Action(("h",), "h", "", "Hide this channel", hide),
            Action(("H",), "H", "", "Choose the channels that are drawn", choose_shown),
            Action(("ctrl+up", "K"), "ctrl+↑", "", "Draw this channel farther up", move(-1)),
            Action(("ctrl+down", "J"), "ctrl+↓", "", "Draw this channel farther down", move(1)),
            Action(("M",), "M", "", "Mark where this channel crosses a voltage", self.mark),
            Action(("g",), "g", "", "Go to where a margin is worst", self.worst),
            Action(("escape",), "esc", "", "Give up measuring", give_up),
        )
        self._reading = (HOLD, *actions_of(self._known, self.anew))
        self._finding = (HOLD, *ACTIONS)

    def acting(self, state: State) -> tuple[Action, ...]:
        """While it is said how a line is read, and while finds are gone through, what belongs to that comes first."""
        choices = state.of(LineChoices)
        if choices.trial is not None:
            return self._reading
        if choices.pane == "found":
            return (*self._finding, *(one for one in self.actions if not _is_among(one, self._finding)))
        return self.actions

    def wants(self, here: Here) -> LineWant:
        """The channels that are drawn."""
        layout, choices = layout_of(here), here.state.of(LineChoices)
        in_hand = layout.in_hand.number if layout.in_hand is not None else None
        shown = tuple(one.number for one in layout.shown)
        trial = replace(choices.trial, row=0) if choices.trial is not None else None
        sought = choices.sought if choices.pane == "found" else None
        columns, has_table = across(here) * 2, choices.pane == "messages"
        read = tuple(one.number for one in layout.entries)
        return LineWant(shown, read, in_hand, columns, choices.cursors, choices.task, trial, sought, has_table)

    def at_first(self) -> LineWant:
        """Nothing: which channels there are is not known yet."""
        return LineWant()

    def pick(self, here: Here) -> int | None:
        """The identifier of the frame in hand."""
        number, picture = here.state.frame, here.picture
        if number is None or number >= picture.snapshot.frames:
            return super().pick(here)
        return int(picture.snapshot.rows(number, number + 1).keys()[0])

    def moment(self, here: Here) -> int | None:
        """The cursor that moves."""
        choices = here.state.of(LineChoices)
        return choices.cursors[choices.active] if choices.cursors else None

    # Painting.

    def paint(self, here: Here) -> list[Line]:
        """Title, a lane for each channel, time axis, cursors, facts."""
        layout, choices = layout_of(here), here.state.of(LineChoices)
        if layout.in_hand is None:
            return _empty(here)
        shown = here.picture.part(LineShown) or LineShown()
        place = Place(shown.span if shown.lanes else here.lens, across(here))
        lanes = {lane.entry.number: lane for lane in shown.lanes}
        drawn: list[Line] = []
        for entry, rows in zip(layout.shown, layout.rows, strict=True):
            drawn += self._lane(here, entry, lanes.get(entry.number), rows, shown, place, entry is layout.in_hand)
        draw_cursors(here, drawn, place, choices.cursors, choices.active)
        lines = [self._title(here, layout, shown, choices), *drawn]
        lines += axis_lines(here, place, choices.cursors, choices.active)
        lines += cursor_lines(here, shown, choices, layout, bit_of(here, layout.in_hand))
        return [*lines, *self._below(here, layout, shown, choices, here.height - len(lines))]

    def _below(self, here: Here, layout: Layout, shown: LineShown, choices: LineChoices, rows: int) -> list[Line]:
        """What stands below the waveforms: one of the tables, or the facts and the frame in hand."""
        assert layout.in_hand is not None
        if choices.trial is not None:
            known = self._known(here)
            return [here.line(), *reading_lines(here, choices.trial, shown.tried, known, rows - 1)]
        if choices.task is not None:
            return [here.line(), *measure_lines(here, shown.measures, choices.task, rows - 1)]
        if choices.pane == "messages":
            return [here.line(), *message_lines(here, shown, choices, rows - 1)]
        if choices.pane == "found" and choices.sought is not None:
            sought = choices.sought.channel
            name = next((one.name for one in layout.entries if one.number == sought), layout.in_hand.name)
            return [here.line(), *found_lines(here, shown, choices, name, rows - 1)]
        facts = fact_lines(here, layout.in_hand, rows)
        in_hand = self._frame_in_hand(here, shown)
        return [*facts, *field_lines(here, in_hand, choices.form, rows - len(facts) - 1)]

    def _title(self, here: Here, layout: Layout, shown: LineShown, choices: LineChoices) -> Line:
        line = here.line()
        at = line.put(2, "what does the wire really do?", here.style("strong", bold=True)) + 3
        many, clock = len(layout.entries), clock_of(here, across(here))
        hidden = f", {len(choices.hidden)} hidden" if choices.hidden else ""
        lasts = f"{clock.lasting(here.lens.end - here.lens.start)} {clock.unit}"
        said = f"{many} channel{'s' if many != 1 else ''}{hidden}, {lasts} in the lens"
        at = line.put(at, said, here.style("dim")) + 3
        if shown.many:
            text = f"{words.count(shown.many)} frames: + shows each"
        else:
            text = f"{len(shown.frames)} frame{'s' if len(shown.frames) != 1 else ''} here"
        at = line.put(at, text, here.style("dim")) + 3
        at = line.put(at, f"n N step by {choices.step}", here.style("brass"), max(here.width - at - 1, 0)) + 3
        if any(bit.is_stuff for frame in shown.frames for bit in frame.close.bits):
            line.put(at, "× a stuff bit", here.style("plum"), max(here.width - at - 1, 0))
        return line

    def _frame_in_hand(self, here: Here, shown: LineShown) -> SeenFrame | None:
        """The frame in hand, if it is in the lens; else that which is alone there."""
        with_fields = [frame for frame in shown.frames if frame.fields]
        known = next((frame for frame in shown.frames if frame.number == here.state.frame), None)
        return known or (with_fields[0] if len(with_fields) == 1 else None)

    def _lane(
        self, here: Here, entry: WaveformEntry, lane: Lane | None, rows: int, shown: LineShown, place: Place, held: bool
    ) -> list[Line]:
        line = line_of(here, entry)
        role = here.palette.bus(line.bus) if line is not None else "dim" if entry.kind == "made" else "slate"
        over, choices = over_rows(here, entry), here.state.of(LineChoices)
        seen = self._seen_over(entry, line, shown, choices, held)
        if seen is not None:
            has_bits = shows_bits(here, entry)
            lines = frame_lines(here, place, seen, role, here.state.frame, choices.form, has_bits)
        else:
            lines = [here.line() for _ in range(over)]
        bold = here.style("strong" if held else "text", bold=held)
        lines[0].put(1, entry.name, bold, GUTTER - 2)
        if held:
            lines[0].put(0, "▌", here.style("brass"), 1)
        if lane is None:
            return [*lines, *(here.line() for _ in range(rows - over))]
        cell_ns = (place.span.end - place.span.start) / max(place.across, 1)
        return [*lines, *wave_lines(here, lane, role, rows - over, entry.measured.get("bit_ns", 0.0), cell_ns)]

    def _seen_over(
        self, entry: WaveformEntry, line: LineEntry | None, shown: LineShown, choices: LineChoices, held: bool
    ) -> list[SeenFrame] | None:
        """The frames that are drawn over a channel: those that a trial gives, else those that were read; or None."""
        tried = shown.tried.result
        if choices.trial is not None and tried is not None:
            form = tried.over.get(entry.name, -1 if held and not tried.over else None)
            if form is not None:
                return [one for one in tried.seen if form in (-1, one.form)]
        if line is None:
            return [] if held and choices.trial is not None else None
        return [one for one in shown.frames if one.bus == line.bus and line.shows(entry.name, one.form)]

    # What people do here.

    def _choose(self, helm: Helm, said: str, joins: bool = False, **to: object) -> None:
        choices = replace(helm.state.of(LineChoices), **to)  # type: ignore[arg-type]
        helm.change(said, helm.state.having(choices), joins)

    def take(self, helm: Helm, by: int) -> None:
        """Take another channel in hand; where messages are listed, another message."""
        layout, choices = layout_of(helm.here), helm.state.of(LineChoices)
        if choices.pane == "messages" and choices.task is None:
            step_in_table(helm, by)
        elif layout.in_hand is not None:
            place = min(max(layout.entries.index(layout.in_hand) + by, 0), len(layout.entries) - 1)
            self._choose(helm, "channel", True, in_hand=layout.entries[place].number)

    def _shift(self, by: int) -> Callable[[Helm], None]:
        def shift(helm: Helm) -> None:
            here, choices = helm.here, helm.state.of(LineChoices)
            lens = here.lens
            if choices.cursors:
                self._set_cursor(helm, choices.cursors[choices.active] + by * max(length(lens) // across(here), 1))
            elif helm.state.lens is not None:
                step = by * max(length(lens) // MOVES, 1)
                look(helm, Span(lens.start + step, lens.end + step), "lens moved", joins=True)

        return shift

    def _set_cursor(self, helm: Helm, time: int, state: object = None) -> None:
        choices = helm.state.of(LineChoices)
        cursors = list(choices.cursors or (time,))
        active = min(choices.active, len(cursors) - 1)
        cursors[active] = time
        self._choose(helm, "cursor moved", True, cursors=tuple(cursors), active=active)

    def next_cursor(self, helm: Helm) -> None:
        """A cursor, then the other, then none."""
        here, cursors = helm.here, helm.state.of(LineChoices).cursors
        if not cursors:
            self._choose(helm, "cursor", cursors=(here.lens.start + length(here.lens) // 3,), active=0)
        elif len(cursors) == 1:
            self._choose(helm, "cursor", cursors=(cursors[0], beside_cursor(here, cursors[0])), active=1)
        else:
            self._choose(helm, "cursors removed", cursors=(), active=0)

    def other_cursor(self, helm: Helm) -> None:
        """The other cursor moves."""
        choices = helm.state.of(LineChoices)
        if len(choices.cursors) == 2:
            self._choose(helm, "the other cursor", active=1 - choices.active)

    def step(self, helm: Helm, forward: bool) -> None:
        """Step to the next thing of the kind that is chosen, from the cursor, the frame in hand or the lens on."""
        here, choices, layout = helm.here, helm.state.of(LineChoices), layout_of(helm.here)
        picture, lens = here.picture, here.lens
        begin = lens.start - 1 if helm.state.lens is None else (lens.start + lens.end) // 2
        at = choices.cursors[choices.active] if choices.cursors else begin
        if choices.step in ("frame", "fault") and helm.state.frame is not None and not choices.cursors:
            number = min(helm.state.frame, max(picture.snapshot.frames - 1, 0))
            at = int(picture.snapshot.rows(number, number + 1).time[0]) if picture.snapshot.frames else at

        def found(goal: Goal | None) -> None:
            if goal is None:
                helm.tell(f"no {choices.step} {'later' if forward else 'earlier'}", 2)
            else:
                go_to(helm, goal)

        helm.behind(lambda _: goal_of(picture, layout.in_hand, choices.step, at, forward), found)

    def choose_step(self, helm: Helm) -> None:
        """Choose what n and N step by; the shortest pulse is gone to at once."""

        def chosen(step: str) -> None:
            helm.change("step by", helm.state.having(replace(helm.state.of(LineChoices), step=step)))
            if step == SHORTEST:
                self.step(helm, True)

        helm.windows.choose("n and N step by", [Choice(step, step) for step in STEPS], chosen)

    def to_frames(self, helm: Helm) -> None:
        """Open Frames with the frame in hand."""
        here = helm.here
        shown = here.picture.part(LineShown)
        number = here.state.frame
        if shown is not None and shown.frames and number not in [frame.number for frame in shown.frames]:
            middle = (here.lens.start + here.lens.end) // 2
            number = min(shown.frames, key=lambda frame: abs(frame.start + frame.end - 2 * middle)).number
        if number is None:
            helm.tell("no frame was read here", 2)
            return
        # The whole frame has to be in the lens, or it would not be among the frames.
        lens, span = helm.state.lens, self._span_of(shown, number)
        if lens is not None and span is not None:
            lens = Span(min(lens.start, span.start), max(lens.end, span.end))
        helm.change("frames", replace(helm.state, view="frames", frame=number, lens=lens))

    def _span_of(self, shown: LineShown | None, number: int) -> Span | None:
        """When a frame that is shown began and ended."""
        frames = shown.frames if shown is not None else ()
        return next((Span(one.start, one.end + 1) for one in frames if one.number == number), None)

    def by_hand(self, helm: Helm) -> None:
        """Say how the line in hand is to be read."""
        here, entry = helm.here, layout_of(helm.here).in_hand
        if entry is not None:
            line = self._known(here)
            begin(helm, as_read(self._named(here, entry, line), line))

    def find(self, helm: Helm) -> None:
        """Look for a raw condition on the channel in hand."""
        entry = layout_of(helm.here).in_hand
        if entry is not None:
            ask_condition(helm, entry.number, entry.name)

    def anew(self, helm: Helm, trial: Trial) -> None:
        """Read a line anew: that of a trial, or the one in hand all by itself."""
        here, entry = helm.here, layout_of(helm.here).in_hand
        if entry is None:
            return
        picture = here.picture
        said = trial if trial.bus else Trial(self._named(here, entry, self._known(here)))
        helm.tell(f"reading {said.bus} anew…", 2)

        def done(sentence: str) -> None:
            helm.done("line read anew", Exchanged(picture.wish.folder, helm.submit))
            choices = helm.state.of(LineChoices)
            if choices.trial is not None:
                helm.quietly(helm.state.having(replace(choices, trial=None)))
            helm.tell(sentence, 6)

        helm.behind(lambda _: read_anew(picture, said), done)

    def _named(self, here: Here, entry: WaveformEntry, line: LineEntry | None) -> str:
        """What a line is called: its bus, or the channel that nothing was read from."""
        return entry.name if line is None else here.picture.snapshot.manifest.buses[line.bus].name

    def _known(self, here: Here) -> LineEntry | None:
        """The line in hand, if one was read."""
        entry = layout_of(here).in_hand
        return line_read_of(here, entry) if entry is not None else None

    def _bus_in_hand(self, here: Here) -> int | None:
        entry, manifest = layout_of(here).in_hand, here.picture.snapshot.manifest
        line = line_of_channel(manifest.waveforms, manifest.lines, entry) if entry is not None else None
        return line.bus if line is not None else None

    def margins(self, helm: Helm) -> None:
        """Measure the line in hand, or put the margins away."""
        turn_margins(helm, self._bus_in_hand(helm.here))

    def beside(self, helm: Helm) -> None:
        """Hold another line beside the one in hand."""
        choose_beside(helm, self._bus_in_hand(helm.here))

    def mark(self, helm: Helm) -> None:
        """Mark where the channel in hand crosses a voltage."""
        entry = layout_of(helm.here).in_hand
        if entry is not None:
            mark_crossings(helm, entry)

    def worst(self, helm: Helm) -> None:
        """Go to where a margin is worst."""
        shown, entry = helm.here.picture.part(LineShown), layout_of(helm.here).in_hand
        if shown is not None and entry is not None:
            choose_worst(helm, shown.measures.result, bit_of(helm.here, entry))

    def with_frame(self, manifest: Manifest, state: State, bus: int, form: int) -> State:
        """With the channel in hand that frames of a bus are shown over."""
        return state.having(with_line(state.of(LineChoices), manifest, bus, form))

    def offers(self, here: Here) -> list[Offer]:
        """The drawing of what is in the lens, and the frames with when they began and ended."""
        from keel.app.views.line.offers import offers_of

        shown, choices = here.picture.part(LineShown), here.state.of(LineChoices)
        measures = shown.measures.result if shown is not None and choices.task is not None else None
        layout = layout_of(here)
        return offers_of(here, layout.shown, layout.entries, choices.cursors, measures)

    def to_moment(self, helm: Helm, time: int) -> bool:
        """A moment that was clicked on the tape comes into the middle."""
        if helm.state.lens is None:
            return False
        half = length(helm.here.lens) // 2
        look(helm, Span(time - half, time + half), "lens moved")
        return True

    def click(self, helm: Helm, x: int, y: int, again: bool) -> None:
        """The cursor that moves goes there; a channel that is clicked is taken in hand."""
        here, layout = helm.here, layout_of(helm.here)
        top = 1
        for entry, rows in zip(layout.shown, layout.rows, strict=True):
            if top <= y < top + rows and x < GUTTER and here.state.of(LineChoices).trial is None:
                self._choose(helm, "channel", in_hand=entry.number)
            top += rows
        if x >= GUTTER and 1 <= y < top:
            self._set_cursor(helm, Place(here.lens, across(here)).time(x - GUTTER + 0.5))

    def wheel(self, helm: Helm, by: int) -> None:
        """Zoom about the middle."""
        lens = helm.here.lens
        middle, half = (lens.start + lens.end) // 2, length(lens) // 2
        half = half * 2 if by > 0 else half // 2
        look(helm, Span(middle - half, middle + half), "lens", joins=True)


def give_up(helm: Helm) -> None:
    """Give up measuring."""
    helm.give_up()


def _is_among(action: Action, others: Sequence[Action]) -> bool:
    """Whether keys of an action are taken by others."""
    return any(set(action.keys) & set(other.keys) for other in others)


def turn_table(helm: Helm) -> None:
    """List the messages in the lens, or the facts again."""
    choices = helm.state.of(LineChoices)
    pane: Literal["", "messages"] = "" if choices.pane == "messages" else "messages"
    helm.change("table", helm.state.having(replace(choices, pane=pane, task=None)))


def step_in_table(helm: Helm, by: int) -> None:
    """Take another message of the table in hand; the lens goes with it if it lies outside."""
    shown = helm.here.picture.part(LineShown)
    if shown is None or not shown.rows:
        return
    numbers = [row["number"] - 1 for row in shown.rows]
    here = row_in_hand(shown, helm.state.frame)
    to = here if helm.state.frame not in numbers else min(max(here + by, 0), len(numbers) - 1)
    helm.change("message", replace(helm.state, frame=numbers[to]), True)


def next_form(helm: Helm) -> None:
    """Bytes in hex, in decimal or as text."""
    choices = helm.state.of(LineChoices)
    form = FORMS[(FORMS.index(choices.form) + 1) % len(FORMS)]
    helm.change("bytes", helm.state.having(replace(choices, form=form)), True)


def beside_cursor(here: Here, cursor: int) -> int:
    """Where a second cursor is set: a bit beside the first one, if a bit is some cells wide, else a few cells."""
    entry = layout_of(here).in_hand
    cell = length(here.lens) / max(across(here), 1)
    bit = bit_of(here, entry) if entry is not None else 0.0
    step = bit if bit >= LEAST_STEP * cell else STEP_CELLS * cell
    at = cursor + max(round(step), 1)
    return at if at < here.lens.end else cursor - max(round(step), 1)


LEAST_STEP, STEP_CELLS = 2, 8
"""A bit of fewer cells is no step for a cursor, then it is so many cells."""


def _empty(here: Here) -> list[Line]:
    lines = [here.line() for _ in range(8)]
    lines[1].put(4, "No waveform is kept in this recording.", here.style("strong", bold=True))
    lines[3].put(4, "keel decode FILE -o NAME", here.style("brass"))
    lines[3].put(34, "reads what a probe recorded (VCD, WAV, volts as text) into a recording", here.style("text"))
    lines[4].put(4, "keel measure FILE", here.style("brass"))
    lines[4].put(34, "measures levels, bit time and rate of each channel", here.style("text"))
    lines[5].put(4, "L  then  i", here.style("brass"))
    lines[5].put(34, "imports such a file here", here.style("text"))
    return lines
