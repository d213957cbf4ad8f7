"""Line as it is painted: title, a lane for each channel, time axis, cursors, and what stands below."""

from __future__ import annotations

from typing import TYPE_CHECKING

from keel.app.frame.helm import Here
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.views.line.choices import LineChoices
from keel.app.views.line.facts import cursor_lines, fact_lines, field_lines
from keel.app.views.line.found import found_lines
from keel.app.views.line.lanes import GUTTER, Place, axis_lines, draw_cursors, frame_lines, wave_lines
from keel.app.views.line.layout import (
    Layout,
    across,
    bit_of,
    layout_of,
    line_in_hand,
    line_of,
    over_rows,
    shows_bits,
)
from keel.app.views.line.measures import measure_lines
from keel.app.views.line.messages import message_lines
from keel.app.views.line.moments import clock_of
from keel.app.views.line.reading import reading_lines
from keel.app.views.line.wants import LineShown

if TYPE_CHECKING:
    from keel.probe.looking import Lane, SeenFrame
    from keel.store.waveform_entries import LineEntry, WaveformEntry


def paint_line(here: Here) -> list[Line]:
    """Title, a lane for each channel, time axis, cursors, facts."""
    layout, choices = layout_of(here), here.state.of(LineChoices)
    if layout.in_hand is None:
        return _empty(here)
    shown = here.picture.part(LineShown) or LineShown()
    place = Place(shown.span if shown.lanes else here.lens, across(here))
    lanes = {lane.entry.number: lane for lane in shown.lanes}
    drawn: list[Line] = []
    for entry, rows in zip(layout.shown, layout.rows, strict=True):
        drawn += _lane(here, entry, lanes.get(entry.number), rows, shown, place, entry is layout.in_hand)
    draw_cursors(here, drawn, place, choices.cursors, choices.active)
    lines = [_title(here, layout, shown, choices), *drawn]
    lines += axis_lines(here, place, choices.cursors, choices.active)
    lines += cursor_lines(here, shown, choices, layout, bit_of(here, layout.in_hand))
    return [*lines, *_below(here, layout, shown, choices, here.height - len(lines))]


def _below(here: Here, layout: Layout, shown: LineShown, choices: LineChoices, rows: int) -> list[Line]:
    """What stands below the waveforms: one of the tables, or the facts and the frame in hand."""
    assert layout.in_hand is not None
    if choices.trial is not None:
        known = line_in_hand(here)
        return [here.line(), *reading_lines(here, choices.trial, shown.tried, known, rows - 1)]
    if choices.task is not None:
        return [here.line(), *measure_lines(here, shown.measures, choices.task, rows - 1)]
    if choices.pane == "messages":
        return [here.line(), *message_lines(here, shown, choices, rows - 1)]
    if choices.pane == "found" and choices.sought is not None:
        sought = choices.sought.channel
        name = next((one.name for one in layout.entries if one.number == sought), layout.in_hand.name)
        return [here.line(), *found_lines(here, shown, choices, name, rows - 1)]
    facts = fact_lines(here, shown, layout.in_hand, rows)
    in_hand = _frame_in_hand(here, shown)
    return [*facts, *field_lines(here, in_hand, choices.form, rows - len(facts) - 1)]


def _title(here: Here, layout: Layout, shown: LineShown, choices: LineChoices) -> Line:
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
    step = f"n N step by {choices.step}"
    line.put(at, step, here.style("brass"), max(here.width - at - 1, 0))
    at += len(step) + 3
    if any(bit.is_stuff for frame in shown.frames for bit in frame.close.bits):
        line.put(at, "× a stuff bit", here.style("plum"), max(here.width - at - 1, 0))
    return line


def _frame_in_hand(here: Here, shown: LineShown) -> SeenFrame | None:
    """The frame in hand, if it is in the lens; else that which is alone there."""
    with_fields = [frame for frame in shown.frames if frame.fields]
    known = next((frame for frame in shown.frames if frame.number == here.state.frame), None)
    return known or (with_fields[0] if len(with_fields) == 1 else None)


def _lane(
    here: Here, entry: WaveformEntry, lane: Lane | None, rows: int, shown: LineShown, place: Place, held: bool
) -> list[Line]:
    line = line_of(here, entry)
    role = here.palette.bus(line.bus) if line is not None else "dim" if entry.kind == "made" else "slate"
    over, choices = over_rows(here, entry), here.state.of(LineChoices)
    seen = _seen_over(entry, line, shown, choices, held)
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
    entry: WaveformEntry, line: LineEntry | None, shown: LineShown, choices: LineChoices, held: bool
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
