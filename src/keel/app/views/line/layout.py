"""Which channels the Line view draws, and the rows each has."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from keel.app.frame.helm import Here
from keel.app.views.line.choices import LineChoices
from keel.app.views.line.lanes import GUTTER
from keel.store.waveform_entries import channels, line_of_channel, line_on

if TYPE_CHECKING:
    from keel.store.waveform_entries import LineEntry, WaveformEntry

VOLTS_ROWS, MOST_VOLTS_ROWS, LOGIC_ROWS, MOST_LOGIC_ROWS = 5, 14, 3, 7
FIELD_ROWS = 9
"""So many rows below are kept for the fields of a frame, where there are."""
MARGIN_ROWS = 16
"""And so many for margins, if they are measured."""
BIT_CELLS = 2
"""A bit that has so many cells is told by itself."""
OVER_ROWS = 2
"""Rows above a waveform for fields and brackets, where frames were read of it."""


@dataclass(frozen=True)
class Layout:
    """Where everything stands: the channels that are drawn, and the rows each has."""

    entries: tuple[WaveformEntry, ...]
    shown: tuple[WaveformEntry, ...]
    rows: tuple[int, ...]
    in_hand: WaveformEntry | None


def layout_of(here: Here) -> Layout:
    """What stands where: all channels if there is room, else those around the one in hand."""
    manifest = here.picture.snapshot.manifest
    choices = here.state.of(LineChoices)
    entries = ordered(here, choices)
    in_hand = next((one for one in entries if one.number == choices.in_hand), None) or _first(here, entries)
    sentences = [*(line.said for line in manifest.lines), *(one.notes for one in entries)]
    said = len(entries) + 2 + sum(map(len, sentences))
    room = max(here.height - 5, 4)
    has_pane = choices.task is not None or choices.trial is not None or bool(choices.pane)
    if has_pane:
        # The table comes first: what is in hand, and what else there is room for.
        room = max(room - min(MARGIN_ROWS, here.height // 2), LOGIC_ROWS)
    else:
        room -= min(said, room // 4)
    least = [_least(here, one) for one in entries]
    first = entries.index(in_hand) if in_hand is not None else 0
    last = first + 1
    used = sum(least[first:last])
    while last < len(entries) and used + least[last] <= room:
        used, last = used + least[last], last + 1
    while first > 0 and used + least[first - 1] <= room:
        first, used = first - 1, used + least[first - 1]
    shown, rows = entries[first:last], least[first:last]
    wanted = said + (FIELD_ROWS if manifest.lines else 0)
    facts = 0 if has_pane else min(wanted, max(room - used, 0))
    spare = room - used - facts
    while spare > 0 and any(rows[n] < _most(here, one) for n, one in enumerate(shown)):
        for n, one in enumerate(shown):
            if spare > 0 and rows[n] < _most(here, one):
                rows[n], spare = rows[n] + 1, spare - 1
    return Layout(entries, shown, tuple(rows), in_hand)


def ordered(here: Here, choices: LineChoices) -> tuple[WaveformEntry, ...]:
    """The channels that are to be seen, in the order that a person chose; all of them where all are hidden."""
    known = channels(here.picture.snapshot.manifest.waveforms)
    places = {number: place for place, number in enumerate(choices.order)}
    # Whatever was not put into an order: what something was read from comes first.
    known.sort(key=lambda entry: (places.get(entry.number, len(places)), line_of(here, entry) is None))
    seen = tuple(entry for entry in known if entry.number not in choices.hidden)
    return seen or tuple(known)


def _first(here: Here, entries: tuple[WaveformEntry, ...]) -> WaveformEntry | None:
    """The channel that is in hand at first: one from which something was read."""
    read = (entry for entry in entries if line_of(here, entry) is not None)
    return next(read, entries[0] if entries else None)


def over_rows(here: Here, entry: WaveformEntry) -> int:
    """Rows above a waveform: one for its name, one for brackets, and one for bits where they are wide enough."""
    if line_of(here, entry) is None and not _is_tried(here, entry):
        return 1
    return OVER_ROWS + shows_bits(here, entry)


def _is_tried(here: Here, entry: WaveformEntry) -> bool:
    """Whether a way to read a channel is tried."""
    choices = here.state.of(LineChoices)
    return choices.trial is not None and choices.in_hand in (entry.number, None)


def shows_bits(here: Here, entry: WaveformEntry) -> bool:
    """Whether the bits of a channel are so wide in the lens that each is told."""
    bit_ns, lens = bit_of(here, entry), here.lens
    return bit_ns >= least_bit(lens.end - lens.start, across(here))


def least_bit(lens_ns: int, cells: int) -> float:
    """How long a bit has to be to be told by itself, in ns."""
    return BIT_CELLS * lens_ns / max(cells, 1)


def _least(here: Here, entry: WaveformEntry) -> int:
    return over_rows(here, entry) + (LOGIC_ROWS if _is_logic(entry) else VOLTS_ROWS)


def _most(here: Here, entry: WaveformEntry) -> int:
    return over_rows(here, entry) + (MOST_LOGIC_ROWS if _is_logic(entry) else MOST_VOLTS_ROWS)


def line_of(here: Here, entry: WaveformEntry) -> LineEntry | None:
    """The line that was read of a channel, if one was."""
    manifest = here.picture.snapshot.manifest
    return line_on(manifest.waveforms, manifest.lines, entry)


def line_read_of(here: Here, entry: WaveformEntry) -> LineEntry | None:
    """The line of a channel: that which was read of it, or one of several wires that it is one of."""
    manifest = here.picture.snapshot.manifest
    together = next((line for line in manifest.lines if entry.name in line.wires), None)
    return line_of(here, entry) or together


def line_in_hand(here: Here) -> LineEntry | None:
    """The line of the channel in hand, if one was read."""
    in_hand = layout_of(here).in_hand
    return line_read_of(here, in_hand) if in_hand is not None else None


def bit_of(here: Here, entry: WaveformEntry) -> float:
    """How long a bit takes on a channel, in ns: at the rate of the line that was read of it, else as measured."""
    manifest = here.picture.snapshot.manifest
    line = line_of_channel(manifest.waveforms, manifest.lines, entry)
    return 1e9 / line.rate if line is not None and line.rate > 0 else entry.measured.get("bit_ns", 0.0)


def _is_logic(entry: WaveformEntry) -> bool:
    return entry.kind == "logic" or entry.formula.startswith("threshold(")


def across(here: Here) -> int:
    """Cells a waveform has across."""
    return max(here.width - GUTTER - 1, 1)
