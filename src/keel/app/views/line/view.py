"""The Line view: waveforms with what was read of them over them, cursors, steps, and how a line is read."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from keel.app.frame.action import Action
from keel.app.frame.helm import Choice, Helm, Here, Offer
from keel.app.frame.steering import HOLD
from keel.app.frame.view import View
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.views.line.by_hand import EXPECTED, Exchanged, Said, parse_said, read_anew, words_of
from keel.app.views.line.choices import STEPS, LineChoices
from keel.app.views.line.facts import cursor_line, fact_lines, field_lines
from keel.app.views.line.lanes import (
    GUTTER,
    Place,
    axis_lines,
    draw_cursors,
    frame_lines,
    wave_lines,
)
from keel.app.views.line.steps import Goal, goal_of
from keel.app.views.line.wants import LineShown, LineWant
from keel.model.span import Span
from keel.store.waveform_entries import channels, line_on

if TYPE_CHECKING:
    from keel.probe.looking import Lane, SeenFrame
    from keel.store.waveform_entries import LineEntry, WaveformEntry

VOLTS_ROWS, MOST_VOLTS_ROWS, LOGIC_ROWS, MOST_LOGIC_ROWS = 5, 12, 3, 5
FIELD_ROWS = 9
"""So many rows below are kept for the fields of a frame, where there are."""
OVER_ROWS = 2
"""Rows above a waveform for fields and brackets, where frames were read of it."""
NARROWEST_NS = 20
MOVES = 8
"""The lens is moved by such a part of itself."""


@dataclass(frozen=True)
class Layout:
    """Where everything stands: the channels that are drawn, and the rows each has."""

    entries: tuple[WaveformEntry, ...]
    shown: tuple[WaveformEntry, ...]
    rows: tuple[int, ...]
    in_hand: WaveformEntry | None


class LineView(View):
    """The view."""

    def __init__(self) -> None:
        self.actions = (
            HOLD,
            Action(("left",), "← →", "move", "Earlier: the cursor, or the lens", self._shift(-1)),
            Action(("right",), "→", "", "Later: the cursor, or the lens", self._shift(1)),
            Action(("up", "k"), "↑ ↓", "", "The channel above", lambda helm: self.take(helm, -1)),
            Action(("down", "j"), "↓", "", "The channel below", lambda helm: self.take(helm, 1)),
            Action(("n",), "n N", "next", "Step to the next of what s chose", lambda helm: self.step(helm, True)),
            Action(("N",), "N", "", "Step to the one before", lambda helm: self.step(helm, False)),
            Action(("s",), "s", "step by", "Choose what n and N step by: frames, edges, bits …", choose_step),
            Action(("c",), "c", "cursors", "A cursor, then a second, then none", self.next_cursor),
            Action(("tab",), "tab", "", "The other cursor moves", self.other_cursor),
            Action(("enter",), "enter", "frames", "The frame in hand in Frames", self.to_frames),
            Action(("x",), "x", "read as", "Say how this line is to be read: code, rate, settings", self.by_hand),
            Action(("a",), "a", "", "Read this line anew, all by itself", lambda helm: self.anew(helm, Said())),
        )

    # Where everything stands.

    def layout(self, here: Here) -> Layout:
        """What stands where: all channels if there is room, else those around the one in hand."""
        manifest = here.picture.snapshot.manifest
        entries = tuple(channels(manifest.waveforms))
        choices = here.state.of(LineChoices)
        in_hand = next((one for one in entries if one.number == choices.in_hand), entries[0] if entries else None)
        sentences = [*(line.said for line in manifest.lines), *(one.notes for one in entries)]
        said = len(entries) + 2 + sum(map(len, sentences))
        room = max(here.height - 4, 4)
        kept = min(said, room // 4)
        room -= kept
        least = [self._least(here, one) for one in entries]
        first = entries.index(in_hand) if in_hand is not None else 0
        last = first + 1
        used = sum(least[first:last])
        while last < len(entries) and used + least[last] <= room:
            used, last = used + least[last], last + 1
        while first > 0 and used + least[first - 1] <= room:
            first, used = first - 1, used + least[first - 1]
        shown = entries[first:last]
        rows = least[first:last]
        said = (
            len(entries) + 2 + sum(len(line.said) for line in manifest.lines) + sum(len(one.notes) for one in entries)
        )
        facts = min(said + (FIELD_ROWS if manifest.lines else 0), max(room - used, 0))
        spare = room - used - facts
        while spare > 0 and any(rows[n] < self._most(here, one) for n, one in enumerate(shown)):
            for n, one in enumerate(shown):
                if spare > 0 and rows[n] < self._most(here, one):
                    rows[n], spare = rows[n] + 1, spare - 1
        return Layout(entries, shown, tuple(rows), in_hand)

    def _over(self, here: Here, entry: WaveformEntry) -> int:
        return OVER_ROWS if _line_on(here, entry) is not None else 1

    def _least(self, here: Here, entry: WaveformEntry) -> int:
        return self._over(here, entry) + (LOGIC_ROWS if _is_logic(entry) else VOLTS_ROWS)

    def _most(self, here: Here, entry: WaveformEntry) -> int:
        return self._over(here, entry) + (MOST_LOGIC_ROWS if _is_logic(entry) else MOST_VOLTS_ROWS)

    def wants(self, here: Here) -> LineWant:
        """The channels that are drawn."""
        layout, choices = self.layout(here), here.state.of(LineChoices)
        in_hand = layout.in_hand.number if layout.in_hand is not None else None
        return LineWant(tuple(one.number for one in layout.shown), in_hand, _across(here) * 2, choices.cursors)

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
        layout, choices = self.layout(here), here.state.of(LineChoices)
        if layout.in_hand is None:
            return _empty(here)
        shown = here.picture.part(LineShown) or LineShown()
        place = Place(shown.span if shown.lanes else here.lens, _across(here))
        lanes = {lane.entry.number: lane for lane in shown.lanes}
        drawn: list[Line] = []
        for entry, rows in zip(layout.shown, layout.rows, strict=True):
            drawn += self._lane(here, entry, lanes.get(entry.number), rows, shown, place, entry is layout.in_hand)
        draw_cursors(here, drawn, place, choices.cursors, choices.active)
        bit_ns = layout.in_hand.measured.get("bit_ns", 0.0)
        lines = [self._title(here, layout, shown, choices), *drawn]
        lines += axis_lines(here, place, here.picture.zero, choices.cursors, choices.active)
        lines.append(cursor_line(here, shown, choices, bit_ns))
        lines += fact_lines(here, layout.in_hand, here.height - len(lines))
        in_hand = self._frame_in_hand(here, shown)
        return [*lines, *field_lines(here, in_hand, here.height - len(lines) - 1)]

    def _title(self, here: Here, layout: Layout, shown: LineShown, choices: LineChoices) -> Line:
        line = here.line()
        at = line.put(2, "what does the wire really do?", here.style("strong", bold=True)) + 3
        many = len(layout.entries)
        said = f"{many} channel{'s' if many != 1 else ''}, {words.length(here.lens.end - here.lens.start)} in the lens"
        at = line.put(at, said, here.style("dim")) + 3
        if shown.many:
            text = f"{words.count(shown.many)} frames: + shows each"
        else:
            text = f"{len(shown.frames)} frame{'s' if len(shown.frames) != 1 else ''} here"
        at = line.put(at, text, here.style("dim")) + 3
        line.put(at, f"n N step by {choices.step}", here.style("brass"), max(here.width - at - 1, 0))
        return line

    def _frame_in_hand(self, here: Here, shown: LineShown) -> SeenFrame | None:
        """The frame in hand, if it is in the lens; else that which is alone there."""
        with_fields = [frame for frame in shown.frames if frame.fields]
        known = next((frame for frame in shown.frames if frame.number == here.state.frame), None)
        return known or (with_fields[0] if len(with_fields) == 1 else None)

    def _lane(
        self, here: Here, entry: WaveformEntry, lane: Lane | None, rows: int, shown: LineShown, place: Place, held: bool
    ) -> list[Line]:
        line = _line_on(here, entry)
        role = here.palette.bus(line.bus) if line is not None else "dim" if entry.kind == "made" else "slate"
        over = self._over(here, entry)
        if line is not None:
            mine = [frame for frame in shown.frames if frame.bus == line.bus]
            lines = frame_lines(here, place, mine, role, here.state.frame)
        else:
            lines = [here.line()]
        bold = here.style("strong" if held else "text", bold=held)
        lines[0].put(1, entry.name, bold, GUTTER - 2)
        if held:
            lines[0].put(0, "▌", here.style("brass"), 1)
        if lane is None:
            return [*lines, *(here.line() for _ in range(rows - over))]
        cell_ns = (place.span.end - place.span.start) / max(place.across, 1)
        return [*lines, *wave_lines(here, lane, role, rows - over, entry.measured.get("bit_ns", 0.0), cell_ns)]

    # What people do here.

    def _choose(self, helm: Helm, said: str, joins: bool = False, **to: object) -> None:
        choices = replace(helm.state.of(LineChoices), **to)  # type: ignore[arg-type]
        helm.change(said, helm.state.having(choices), joins)

    def take(self, helm: Helm, by: int) -> None:
        """Take another channel in hand."""
        layout = self.layout(helm.here)
        if layout.in_hand is not None:
            place = min(max(layout.entries.index(layout.in_hand) + by, 0), len(layout.entries) - 1)
            self._choose(helm, "channel", True, in_hand=layout.entries[place].number)

    def _shift(self, by: int) -> Callable[[Helm], None]:
        def shift(helm: Helm) -> None:
            here, choices = helm.here, helm.state.of(LineChoices)
            lens = here.lens
            if choices.cursors:
                self._set_cursor(helm, choices.cursors[choices.active] + by * max(_length(lens) // _across(here), 1))
            elif helm.state.lens is not None:
                step = by * max(_length(lens) // MOVES, 1)
                _look(helm, Span(lens.start + step, lens.end + step), "lens moved", joins=True)

        return shift

    def _set_cursor(self, helm: Helm, time: int, state: object = None) -> None:
        choices = helm.state.of(LineChoices)
        cursors = list(choices.cursors or (time,))
        active = min(choices.active, len(cursors) - 1)
        cursors[active] = time
        self._choose(helm, "cursor moved", True, cursors=tuple(cursors), active=active)

    def next_cursor(self, helm: Helm) -> None:
        """A cursor, then the other, then none."""
        lens, cursors = helm.here.lens, helm.state.of(LineChoices).cursors
        if len(cursors) < 2:
            at = lens.start + _length(lens) * (1, 2)[len(cursors)] // 3
            self._choose(helm, "cursor", cursors=(*cursors, at), active=len(cursors))
        else:
            self._choose(helm, "cursors removed", cursors=(), active=0)

    def other_cursor(self, helm: Helm) -> None:
        """The other cursor moves."""
        choices = helm.state.of(LineChoices)
        if len(choices.cursors) == 2:
            self._choose(helm, "the other cursor", active=1 - choices.active)

    def step(self, helm: Helm, forward: bool) -> None:
        """Step to the next thing of the kind that is chosen, from the cursor, the frame in hand or the lens on."""
        here, choices, layout = helm.here, helm.state.of(LineChoices), self.layout(helm.here)
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
        helm.change("frames", replace(helm.state, view="frames", frame=number))

    def by_hand(self, helm: Helm) -> None:
        """Have typed how the line in hand is to be read."""
        line = self._line_in_hand(helm.here)

        def typed(text: str) -> None:
            self.anew(helm, parse_said(text))

        helm.windows.text("Read this line as", f"{EXPECTED}   enter read   esc leave", words_of(line), typed)

    def anew(self, helm: Helm, said: Said) -> None:
        """Read the line in hand anew."""
        here, entry = helm.here, self.layout(helm.here).in_hand
        if entry is None:
            return
        picture, line = here.picture, self._line_in_hand(here)
        helm.tell(f"reading {entry.name} anew…", 2)

        def done(sentence: str) -> None:
            helm.done("line read anew", Exchanged(picture.wish.folder, helm.submit))
            helm.tell(sentence, 6)

        helm.behind(lambda _: read_anew(picture, entry, line, said), done)

    def _line_in_hand(self, here: Here) -> LineEntry | None:
        entry = self.layout(here).in_hand
        return _line_on(here, entry) if entry is not None else None

    def offers(self, here: Here) -> list[Offer]:
        """The drawing of what is in the lens, and the frames with when they began and ended."""
        from keel.app.views.line.offers import offers_of

        return offers_of(here, self.layout(here).shown, here.state.of(LineChoices).cursors)

    def to_moment(self, helm: Helm, time: int) -> bool:
        """A moment that was clicked on the tape comes into the middle."""
        if helm.state.lens is None:
            return False
        half = _length(helm.here.lens) // 2
        _look(helm, Span(time - half, time + half), "lens moved")
        return True

    def click(self, helm: Helm, x: int, y: int, again: bool) -> None:
        """The cursor that moves goes there; a channel that is clicked is taken in hand."""
        here, layout = helm.here, self.layout(helm.here)
        top = 1
        for entry, rows in zip(layout.shown, layout.rows, strict=True):
            if top <= y < top + rows and x < GUTTER:
                self._choose(helm, "channel", in_hand=entry.number)
            top += rows
        if x >= GUTTER and 1 <= y < top:
            self._set_cursor(helm, Place(here.lens, _across(here)).time(x - GUTTER + 0.5))

    def wheel(self, helm: Helm, by: int) -> None:
        """Zoom about the middle."""
        lens = helm.here.lens
        middle, half = (lens.start + lens.end) // 2, _length(lens) // 2
        half = half * 2 if by > 0 else half // 2
        _look(helm, Span(middle - half, middle + half), "lens", joins=True)


def _line_on(here: Here, entry: WaveformEntry) -> LineEntry | None:
    manifest = here.picture.snapshot.manifest
    return line_on(manifest.waveforms, manifest.lines, entry)


def _is_logic(entry: WaveformEntry) -> bool:
    return entry.kind == "logic" or entry.formula.startswith("threshold(")


def _across(here: Here) -> int:
    return max(here.width - GUTTER - 1, 1)


def _length(span: Span) -> int:
    return span.end - span.start


def _look(helm: Helm, span: Span, said: str, joins: bool = False) -> None:
    """The lens on a span, as far as there is something."""
    whole = helm.here.picture.whole
    length = min(max(_length(span), NARROWEST_NS), _length(whole))
    start = min(max(span.start, whole.start), whole.end - length)
    lens = Span(start, start + length)
    helm.change(said, replace(helm.state, lens=None if lens == whole else lens), joins)


def go_to(helm: Helm, goal: Goal) -> None:
    """Look at what was stepped to; a cursor goes there."""
    choices, lens, state = helm.state.of(LineChoices), helm.here.lens, helm.state
    if choices.cursors:
        cursors = tuple(goal.time if n == choices.active else one for n, one in enumerate(choices.cursors))
        state = state.having(replace(choices, cursors=cursors))
    if goal.frame is not None:
        state = replace(state, frame=goal.frame)
    whole, span = helm.here.picture.whole, goal.span
    if (span is None and not lens.start <= goal.time < lens.end) or (span is None and not choices.cursors):
        half = _length(lens) // 2 if helm.state.lens is not None else max(_length(lens) // 200, NARROWEST_NS)
        span = Span(goal.time - half, goal.time + half)
    if span is not None:
        state = replace(state, lens=span.clipped(whole))
    helm.change("step", state, joins=True)


def choose_step(helm: Helm) -> None:
    """Choose what n and N step by."""

    def chosen(step: str) -> None:
        helm.change("step by", helm.state.having(replace(helm.state.of(LineChoices), step=step)))

    helm.windows.choose("n and N step by", [Choice(step, step) for step in STEPS], chosen)


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
