"""Every drawing of a recording, once: its name for a command, what it is in words, what it is made from.

`keel draw` and the export of the app are made from this list. Naming them loads nothing that is slow to load.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from keel.errors import InputError

if TYPE_CHECKING:
    from keel.ask.matches import Matches
    from keel.draw.fields import Part
    from keel.hunt.candidates import Candidate
    from keel.hunt.columns import Column
    from keel.hunt.measurements import Points
    from keel.hunt.traffic import Traffic
    from keel.model.span import Span
    from keel.probe.looking import SeenFrame
    from keel.signals.dictionary import Message
    from keel.signals.signal import Signal
    from keel.store.recording import Snapshot

MOST_HISTOGRAMS = 12
MOST_VALUES = 8
LOAD_CELLS, VALUE_CELLS, BINS = 300, 1200, 40
LINE_CELLS, MOST_BRACKETS = 2400, 200


@dataclass(frozen=True)
class Found:
    """A candidate, and the evidence it was found by."""

    candidate: Candidate
    traffic: Traffic
    spans: Sequence[Span] = ()
    points: Points | None = None


@dataclass(frozen=True)
class Material:
    """What a drawing is made from.

    Attributes:
        span: The stretch that is drawn.
        ask: Which frames the matches are; empty for all.
        keys: The identifiers to draw; empty for the busiest.
        signals: The signals to draw: identifier, message, signal.
        cursors: Moments to mark, in ns.
        found: The candidate to draw.
        channels: The numbers of the waveforms to draw; none is all.
    """

    snapshot: Snapshot
    matches: Matches
    span: Span
    ask: str = ""
    keys: tuple[int, ...] = ()
    signals: tuple[tuple[int, Message, Signal], ...] = ()
    cursors: tuple[int, ...] = ()
    found: Found | None = None
    channels: tuple[int, ...] = ()

    @property
    def start(self) -> int:
        """Time zero, in ns."""
        return self.snapshot.zero

    def title(self, words: str, more: str = "") -> str:
        """What stands above a drawing."""
        of = f", of {self.ask}" if self.ask else ""
        return f"{self.snapshot.manifest.name}: {words}{of}{more}"

    def name(self, key: int) -> str:
        """An identifier with its name, if it has one."""
        from keel.media.every import key_words

        message = self.snapshot.book.message(key)
        return f"{message.name if message else ''} {key_words(key)}".strip()


@dataclass(frozen=True)
class Drawing:
    """One kind of drawing.

    Attributes:
        name: What `keel draw` calls it, and the file that is proposed.
        words: What it is; `{of}` is what is in hand.
        needs: What has to be in hand: nothing, an identifier, signals, channels, or a candidate.
        draw: Draws it into a file that ends in .svg or .pdf.
    """

    name: str
    words: str
    draw: Callable[[Material, Path], None]
    needs: str = field(default="nothing")


def _load(given: Material, path: Path) -> None:
    from keel.draw.charts import draw_load
    from keel.measure.load import Loads, cells_for

    manifest = given.snapshot.manifest
    series = Loads().series(given.matches, given.span, cells_for(given.span, LOAD_CELLS))
    draw_load(path, given.title("load, exact bits on the wire"), series, manifest.buses, manifest.marks, given.start)


def _cycles(given: Material, path: Path) -> None:
    from keel.draw.charts import draw_cycles
    from keel.measure.census import census_of
    from keel.measure.cycles import describe_tally

    census, nominal = census_of(given.matches), given.snapshot.manifest.nominal
    keys = given.keys or sorted(census, key=lambda key: -census[key].frames)
    cycles = [
        (given.name(key), key >> 56, describe_tally(census[key], given.span.end, BINS, nominal.get(key, 0)))
        for key in keys[:MOST_HISTOGRAMS]
    ]
    more = f", the {len(cycles)} busiest of {len(keys)}" if len(keys) > len(cycles) else ""
    draw_cycles(path, given.title("cycle times", more), cycles)


def _values(given: Material, path: Path) -> None:
    from keel.draw.fields import draw_values
    from keel.measure.courses import Courses

    courses = Courses()
    series = [
        (f"{m.name}.{s.name}", courses.envelope(given.matches, key, m, s, given.span, VALUE_CELLS))
        for key, m, s in given.signals[:MOST_VALUES]
    ]
    more = f", the first {len(series)} of {len(given.signals)} signals" if len(given.signals) > len(series) else ""
    draw_values(path, given.title("values", more), series, given.start, given.cursors)


def _column(given: Material) -> Column:
    """The frames of the identifier to draw."""
    from keel.hunt.columns import gather

    found = gather(given.matches, given.keys[0] if given.keys else None).values()
    whole = [column for column in found if len(column.times) and column.payloads.shape[1]]
    if not whole:
        where = given.name(given.keys[0]) if given.keys else given.ask or "the recording"
        raise InputError(where, "no frame here has a payload and no fault", "another identifier, or a longer stretch")
    return max(whole, key=lambda column: len(column.times) * column.every)


def _loom(given: Material, path: Path) -> None:
    from keel.draw.fields import LOOM_ROWS, draw_loom
    from keel.hunt.columns import flip_shares
    from keel.model.span import Span

    column = _column(given)
    edges = Span(int(column.times[0]), int(column.times[-1]) + 1).edges(LOOM_ROWS)
    message, size = given.snapshot.book.message(column.key), column.payloads.shape[1]
    parts = _parts([s for s in message.signals if s.field.last_byte < size] if message else [])
    title = given.title(f"bit loom of {given.name(column.key)}")
    draw_loom(path, title, flip_shares(column, edges), edges, given.start, parts)


def _ribbon(given: Material, path: Path) -> None:
    from keel.draw.fields import draw_ribbon

    column = _column(given)
    payload, message = column.payloads[-1].tobytes(), given.snapshot.book.message(column.key)
    title = given.title(f"{given.name(column.key)}, its last payload")
    draw_ribbon(path, title, payload, _parts(message.present(payload) if message else []))


def _line(given: Material, path: Path) -> None:
    import numpy as np

    from keel.ask.fetch import frames_at
    from keel.draw.waveforms import draw_line
    from keel.probe.looking import Waves, frames_seen, lane_of, longest
    from keel.store.waveform_entries import channels, line_on

    snapshot, span, waves = given.snapshot, given.span, Waves()
    manifest = snapshot.manifest
    entries = [one for one in channels(manifest.waveforms) if not given.channels or one.number in given.channels]
    if not entries:
        raise InputError(manifest.name, "no waveform is kept in it", "a recording that keel decode made")
    cells = np.linspace(span.start, span.end, LINE_CELLS + 1).astype(np.int64)
    on = {one.number: line_on(manifest.waveforms, manifest.lines, one) for one in entries}
    strips = [(lane_of(waves, snapshot, one, cells), on[one.number]) for one in entries]
    low = given.matches.at_or_after(span.start - longest(manifest))
    high = given.matches.at_or_after(span.end)
    seen: tuple[SeenFrame, ...] = ()
    if 0 < high - low <= MOST_BRACKETS:
        batch, numbers = frames_at(given.matches, low, high), given.matches.numbers(low, high).tolist()
        least = (span.end - span.start) / 8
        seen = frames_seen(waves, snapshot, batch, numbers, span, least)
    more = f", {high - low} frames: too many to be told apart" if high - low > MOST_BRACKETS else ""
    draw_line(path, given.title("waveforms", more), strips, seen, span, given.start, given.cursors)


def _parts(signals: Sequence[Signal]) -> list[Part]:
    return [(s.name, s.field, s.role) for s in signals]


def _candidate(given: Material, path: Path) -> None:
    from keel.draw.charts import draw_candidate

    assert given.found is not None
    found, candidate = given.found, given.found.candidate
    times, raw = found.traffic.values(candidate.key, candidate.field, candidate.page, candidate.header)
    values = raw * (candidate.scale or 1.0) + (candidate.offset or 0.0)
    # Readings are drawn only over values of the same scale.
    points = found.points if candidate.scale is not None else None
    title = f"{given.name(candidate.key)}, {candidate.field.words()}"
    draw_candidate(path, title, candidate.why, times, values, found.spans, given.span, given.start, points)


DRAWINGS: list[Drawing] = [
    Drawing("load", "the tape: load of each bus over the lens, faults and marks", _load),
    Drawing("cycles", "cycle times of {of} as a histogram", _cycles, "an identifier"),
    Drawing("loom", "the bit loom of {of}", _loom, "an identifier"),
    Drawing("ribbon", "the ribbon of {of}", _ribbon, "an identifier"),
    Drawing("values", "the plots: {of} over the lens", _values, "signals"),
    Drawing("line", "the waveforms of {of} over the lens, with what was read of them", _line, "channels"),
    Drawing("candidate", "candidate {of} over the evidence", _candidate, "a candidate"),
]


def drawing(name: str) -> Drawing:
    """The drawing of a name.

    Raises:
        KeyError: there is none.
    """
    return {made.name: made for made in DRAWINGS}[name]
