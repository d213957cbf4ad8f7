"""The Line view: waveforms with what was read of them over them, cursors, steps, and how a line is read."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from keel.app.frame.action import Action
from keel.app.frame.helm import Choice, Helm, Here, Offer
from keel.app.frame.steering import HOLD
from keel.app.frame.view import View
from keel.app.paint.canvas import Line
from keel.app.views.line.by_hand import Exchanged, read_anew
from keel.app.views.line.channels import choose_shown, hide, move
from keel.app.views.line.choices import SHORTEST, STEPS, LineChoices
from keel.app.views.line.deeds import beside_cursor, step_in_table, turn_table
from keel.app.views.line.found import ACTIONS, ask_condition
from keel.app.views.line.going import go_to, length, look, with_line
from keel.app.views.line.lanes import (
    GUTTER,
    Place,
)
from keel.app.views.line.layout import (
    across,
    bit_of,
    layout_of,
    line_in_hand,
)
from keel.app.views.line.marking import mark_crossings
from keel.app.views.line.measures import choose_beside, choose_worst, turn_margins
from keel.app.views.line.painting import paint_line
from keel.app.views.line.reading import actions_of, begin, next_form
from keel.app.views.line.steps import Goal, goal_of
from keel.app.views.line.trial import Trial, as_read
from keel.app.views.line.wants import LineShown, LineWant
from keel.model.span import Span
from keel.store.waveform_entries import line_of_channel

if TYPE_CHECKING:
    from keel.app.shared.state import State
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
        self._reading = (HOLD, *actions_of(line_in_hand, self.anew))
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

    def paint(self, here: Here) -> list[Line]:
        """Title, a lane for each channel, time axis, cursors, facts."""
        return paint_line(here)

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
            line = line_in_hand(here)
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
        said = trial if trial.bus else Trial(self._named(here, entry, line_in_hand(here)))
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
