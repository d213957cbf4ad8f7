"""Below the waveforms: what was measured of the channels, and what was found on them."""

from __future__ import annotations

from collections.abc import Mapping
from textwrap import wrap
from typing import TYPE_CHECKING

from keel.app.frame.helm import Here
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.views.line.choices import LineChoices
from keel.app.views.line.lanes import said_of
from keel.app.views.line.layout import Layout, across
from keel.app.views.line.moments import Clock, clock_of
from keel.app.views.line.wants import LineShown
from keel.model.units import frequency_words
from keel.store.waveform_entries import channels, line_of_channel

if TYPE_CHECKING:
    from keel.lines.code import Field
    from keel.probe.between import Between
    from keel.probe.looking import SeenFrame
    from keel.store.waveform_entries import LineEntry, WaveformEntry

FIELD_WIDE = 50
_TITLES = (
    ("channel", 18, False), ("rests", 6, False), ("low", 10, True), ("high", 10, True), ("cut at", 10, True),
    ("edges", 12, True), ("a bit", 11, True), ("rate measured", 26, True),
)  # fmt: skip


FEWEST_EDGES = 16
"""Fewer say nothing of bits."""


def cursor_lines(here: Here, shown: LineShown, choices: LineChoices, layout: Layout, bit_ns: float) -> list[Line]:
    """Where the cursors stand, what every channel says there, and what the one in hand does between them."""
    line, clock = here.line(), clock_of(here, across(here))
    at = line.put(2, "cursors", here.style("dim")) + 2
    if not choices.cursors:
        line.put(at, "none: c sets one, a click too", here.style("faint"))
        return [line]
    for number, time in enumerate(choices.cursors):
        role = "brass" if number == choices.active else "text"
        at = line.put(at, "12"[number], here.style(role, bold=True)) + 1
        at = line.put(at, clock.moment(time), here.style("text")) + 3
    if len(choices.cursors) == 2:
        said = _apart(abs(choices.cursors[1] - choices.cursors[0]), clock, bit_ns, shown.between)
        line.put(at, "  ".join(said), here.style("strong"), max(here.width - at - 1, 0))
    read = here.line()
    at = read.put(2, "there", here.style("dim")) + 4
    in_hand_first = sorted(layout.entries, key=lambda entry: entry is not layout.in_hand)
    for entry in in_hand_first:
        values = shown.values.get(entry.number, ())
        readings = " → ".join(_reading(value, entry) for value in values)
        if values and at + len(entry.name) + len(readings) + 2 < here.width:
            role = "strong" if layout.in_hand is entry else "text"
            at = read.put(at, entry.name, here.style("dim")) + 1
            at = read.put(at, readings, here.style(role)) + 3
    return [line, read]


def _apart(apart: int, clock: Clock, bit_ns: float, inner: Between | None) -> list[str]:
    """What lies between two cursors, in words."""
    said = [f"{clock.lasting(apart)} {clock.unit}"]
    if apart:
        said.append(f"= {frequency_words(1e9 / apart)}")
    if bit_ns:
        said.append(f"= {apart / bit_ns:.2f} bits")
    if inner is None:
        return said
    if inner.edges is not None:
        said.append(f"· {words.count(inner.edges)} edge{'s' if inner.edges != 1 else ''}")
    if inner.least is not None and inner.most is not None:
        said.append(f"· {inner.least:.3g} to {inner.most:.3g} V")
    if inner.frequency is not None:
        said.append(f"· {frequency_words(inner.frequency)}")
    if inner.duty is not None:
        said.append(f"{inner.duty:.0%} high")
    return said


def _reading(value: float | None, entry: WaveformEntry) -> str:
    if value is None:
        return "—"
    is_levels = entry.kind == "logic" or entry.formula.startswith("threshold(")
    return ("high" if value else "low") if is_levels else f"{value + 0.0:.3g} V"


def fact_lines(here: Here, shown: LineShown, in_hand: WaveformEntry | None, room: int) -> list[Line]:
    """The table of channels, what was found, what is to be known; of the channel in hand first where room is short."""
    manifest = here.picture.snapshot.manifest
    entries = channels(manifest.waveforms)
    heading, at = here.line(), 2
    for title, wide, right in _titles(here):
        at = heading.put(at, title, here.style("dim"), wide, right) + 1
    figures = shown.figures.result.of if shown.figures.result is not None and here.state.lens is not None else {}
    where = "in the lens" if figures else "measuring the lens…" if shown.figures.running else "of all"
    heading.put(at + 1, where, here.style("sea" if figures else "faint"), max(here.width - at - 2, 0))
    # What is in hand comes first: its row where room is short, and what is said of it.
    mine = line_of_channel(manifest.waveforms, manifest.lines, in_hand) if in_hand is not None else None
    said: list[Line] = []
    others: list[Line] = []
    for line in manifest.lines:
        (said if line is mine else others).extend(_found(here, line))
    for entry in entries:
        (said if entry is in_hand else others).extend(_notes(here, entry))
    needed = len(entries) + 2 + len(said) + len(others)
    if needed > room and in_hand is not None:
        entries = [in_hand, *(entry for entry in entries if entry is not in_hand)][: max(room - 4, 1)]
    lines = [heading, *(_channel(here, entry, figures.get(entry.number), entry is in_hand) for entry in entries)]
    lines += [here.line()] if needed <= room else []
    return [*lines, *said, *others][: max(room, 0)]


def _notes(here: Here, entry: WaveformEntry) -> list[Line]:
    lines = []
    follows = here.state.of(LineChoices).follows
    found = follows[1] if follows is not None and follows[0] == entry.number else ()
    for sentence in (*found, *entry.notes):
        lines += _told(here, entry.name, sentence, "dim", "brass")
    return lines


def field_lines(here: Here, frame: SeenFrame | None, form: str, rows: int) -> list[Line]:
    """The fields of a frame, in as many columns as there is need and room for."""
    if frame is None or not frame.fields or rows < 3:
        return []
    heading = here.line()
    bus = here.picture.snapshot.manifest.buses[frame.bus].name
    at = heading.put(2, f"frame {words.count(frame.number + 1)}", here.style("strong", bold=True)) + 2
    at = heading.put(at, f"{frame.ident} on {bus}, {words.length(frame.end - frame.start)}", here.style("text")) + 2
    if frame.faults:
        heading.put(at, f"✕ {frame.faults}", here.style("coral"))
    below = min(rows - 2, len(frame.fields))
    lines = [here.line() for _ in range(below)]
    for place, field in enumerate(frame.fields):
        column, row = divmod(place, below)
        at = 2 + column * FIELD_WIDE
        if at + FIELD_WIDE > here.width:
            heading.put(here.width - 20, f"{len(frame.fields) - place} more fields", here.style("dim"))
            break
        _field(lines[row], at, field, frame.start, form, here)
    return [here.line(), heading, *lines]


def _field(line: Line, at: int, field: Field, start: int, form: str, here: Here) -> None:
    value = said_of(field, form) or ("" if field.value is None else f"{field.value:g}")
    line.put(at, field.name, here.style("coral" if field.fault else "dim"), 13)
    line.put(at + 14, f"+{words.length(field.start - start)}", here.style("faint"), 10, True)
    said = f"✕ {field.fault}  {value}" if field.fault else value
    line.put(at + 26, said, here.style("coral" if field.fault else "text"), FIELD_WIDE - 28)


def _channel(here: Here, entry: WaveformEntry, figures: Mapping[str, float] | None, is_in_hand: bool) -> Line:
    line = here.line("raised" if is_in_hand else "ink")
    on = "raised" if is_in_hand else "ink"
    known = entry.measured if figures is None else figures
    swing = known.get("high", 0.0) - known.get("low", 0.0)
    length, rate = _rate(here, entry, known)
    volts = {name: words.volts(known[name], swing) if name in known else "—" for name in ("low", "high", "threshold")}
    cells = {
        "channel": entry.name,
        "rests": "high" if known.get("idle") else "low",
        "low": volts["low"],
        "high": volts["high"],
        "cut at": volts["threshold"],
        "edges": words.count(int(known.get("edges", entry.points))),
        "a bit": length,
        "rate measured": rate,
    }
    at = 2
    # What was not measured of the lens, while others were, stands back.
    role = "dim" if figures is None and here.state.lens is not None else "text"
    for title, wide, right in _titles(here):
        at = line.put(at, cells[title], here.style("strong" if at == 2 else role, on), wide, right) + 1
    return line


NARROW, NARROW_NAME, BOTH_RATES = 120, 15, 44
"""With fewer columns names have fewer cells; and two rates have so many."""


def _titles(here: Here) -> list[tuple[str, int, bool]]:
    """The columns that there is room for; the rate stays, and has room for two where a line has two."""
    kept, width = list(_TITLES), here.width
    if any(line.fast_rate for line in here.picture.snapshot.manifest.lines):
        kept[-1] = (kept[-1][0], BOTH_RATES, kept[-1][2])
    if width < NARROW:
        kept[0] = (kept[0][0], NARROW_NAME, kept[0][2])
    for dropped in ("edges", "cut at", "rests", "low", "high"):
        if sum(wide + 1 for _, wide, _ in kept) + 3 > width:
            kept = [one for one in kept if one[0] != dropped]
    return kept


def _rate(here: Here, entry: WaveformEntry, measured: Mapping[str, float]) -> tuple[str, str]:
    """How long a bit takes on a channel, or a tick, or a period of its clock; and how many there are a second."""
    from keel.media.every import medium_of

    manifest = here.picture.snapshot.manifest
    line = line_of_channel(manifest.waveforms, manifest.lines, entry)
    unit = medium_of(manifest.buses[line.bus]).unit if line is not None else "bit/s"
    if line is None or unit == "bit/s":
        known = measured.get("bit_ns") if measured.get("edges", 0) >= FEWEST_EDGES else None
        if not known:
            return "—", "—"
        fast = measured.get("fast_bit_ns")
        data = f", data {rate_words(1e9 / fast, '')}" if fast else ""
        return words.length(known), rate_words(1e9 / known) + data
    if line.wires and line.channels.get(entry.name) != "clock":
        return "—", "by the clock"
    rate = 1e9 / measured["bit_ns"] if measured.get("bit_ns") else line.rate
    return words.length(1e9 / rate), f"{words.count(round(rate))} {unit}"


def rate_words(rate: float, unit: str = " bit/s") -> str:
    """A measured rate, and how far it is from a usual one."""
    from keel.lines.pulses import nearest_rate

    near = nearest_rate(rate)
    whole = words.count(round(rate))
    return f"{whole}{unit}" if near is None else f"{words.count(near)}{unit} {rate / near - 1:+.2%}"


def _found(here: Here, entry: LineEntry) -> list[Line]:
    name = here.picture.snapshot.manifest.buses[entry.bus].name
    lines = []
    for number, sentence in enumerate(entry.said):
        role = "text" if not number else "dim"
        lines += _told(here, name if not number else "", sentence, here.palette.bus(entry.bus), role)
        if not number and entry.given:
            lines += _told(here, "", f"set by hand: {', '.join(entry.given)}", "dim", "brass")
    return lines


def _told(here: Here, name: str, sentence: str, of: str, role: str) -> list[Line]:
    """A sentence behind the name of what it is said of, on as many lines as it takes."""
    lines = []
    for place, text in enumerate(wrap(sentence, max(here.width - SENTENCE - 1, 20), subsequent_indent="  ")):
        line = here.line()
        line.put(2, name if not place else "", here.style(of), SENTENCE - 3)
        line.put(SENTENCE, text, here.style(role))
        lines.append(line)
    return lines


SENTENCE = 21
"""Where sentences begin."""
