"""What Line wants of the desk: outlines of the channels that are drawn, the frames in the lens, what cursors read."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from keel.app.desk.errands import Errand
from keel.app.views.line.choices import Sought, Task
from keel.app.views.line.figures import Figures, measuring
from keel.app.views.line.measures import Measures, measure
from keel.app.views.line.searching import Finds, searching
from keel.app.views.line.trial import Trial
from keel.app.views.line.trying import LEAST_BIT_COLUMNS, LEAST_COLUMNS, Tried, trying
from keel.model.span import Span

if TYPE_CHECKING:
    from keel.app.desk.making import Making
    from keel.model.frames import FrameBatch
    from keel.probe.between import Between
    from keel.probe.looking import Lane, SeenFrame, Waves

MOST_FRAMES = 2000
"""More frames in the lens are not looked at one by one."""
MOST_READ = 16
"""So many channels are read at the cursors."""


@dataclass(frozen=True, eq=False)
class LineShown:
    """Line's part of a picture.

    Attributes:
        span: The lens it was made for.
        frames: Those in it; ``many`` says how many there are where they are not looked at one by one.
        rows: The same as a table has them, where it is wanted.
        values: What each channel says at the cursors, by its number.
        between: What the channel in hand does between the cursors.
        measures: The margins that are wanted.
        tried: What comes of the way to read a line that is tried.
        finds: What was looked for.
        figures: What was measured of the channels in the lens.
    """

    span: Span = field(default_factory=lambda: Span(0, 0))
    lanes: tuple[Lane, ...] = ()
    frames: tuple[SeenFrame, ...] = ()
    many: int = 0
    rows: tuple[dict[str, Any], ...] = ()
    values: Mapping[int, tuple[float | None, ...]] = field(default_factory=dict)
    between: Between | None = None
    measures: Errand[Measures] = field(default_factory=Errand)
    tried: Errand[Tried] = field(default_factory=Errand)
    finds: Errand[Finds] = field(default_factory=Errand)
    figures: Errand[Figures] = field(default_factory=Errand)


@dataclass(frozen=True)
class LineWant:
    """What is to be read.

    Attributes:
        shown: The numbers of the channels that are drawn.
        read: The numbers of those that are read at the cursors.
        in_hand: That of the one in hand.
        columns: Columns of dots.
        cursors: Times in ns.
        task: Of which line the margins are measured.
        trial: How a line is tried to be read.
        sought: What is looked for.
        has_table: Whether the messages are listed.
    """

    shown: tuple[int, ...] = ()
    read: tuple[int, ...] = ()
    in_hand: int | None = None
    columns: int = 2
    cursors: tuple[int, ...] = ()
    task: Task | None = None
    trial: Trial | None = None
    sought: Sought | None = None
    has_table: bool = False

    def make(self, making: Making) -> LineShown:
        """Line's part."""
        import numpy as np

        from keel.probe.between import between, values_at
        from keel.probe.looking import Waves, lane_of
        from keel.store.waveform_entries import channels

        snapshot, lens = making.snapshot, making.lens
        waves = making.helpers.of(Waves)
        cells = np.linspace(lens.start, lens.end, self.columns + 1).astype(np.int64)
        entries = {entry.number: entry for entry in channels(snapshot.manifest.waveforms)}
        lanes = []
        for number in self.shown:
            if number in entries:
                making.courtesy()
                lanes.append(lane_of(waves, snapshot, entries[number], cells))
        frames, rows, many = self._frames(making, waves)
        read = [entries[number] for number in self.read[:MOST_READ] if number in entries]
        values = values_at(waves, snapshot, read, self.cursors)
        inner = None
        if len(self.cursors) == 2:
            inner = between(waves, snapshot, entries.get(self.in_hand or -1), *sorted(self.cursors))
        return LineShown(
            lens,
            tuple(lanes),
            frames,
            many,
            rows,
            values,
            inner,
            self._measures(making),
            trying(making, self.trial, self.columns) if self.trial is not None else Errand(),
            searching(making, self.sought) if self.sought is not None else Errand(),
            measuring(making, self.read[:MOST_READ]),
        )

    def _measures(self, making: Making) -> Errand[Measures]:
        task = self.task
        if task is None:
            return Errand()
        snapshot = making.snapshot
        key = (making.folder, snapshot.manifest.generation, making.lens, making.wish.ask, task)
        return making.errands.run(Measures, key, lambda stopped, show: measure(making, task, stopped, show))

    def _frames(self, making: Making, waves: Waves) -> tuple[tuple[SeenFrame, ...], tuple[dict[str, Any], ...], int]:
        """The frames in the lens that meet the ask and were read from a waveform, and their rows; or how many."""
        from keel.ask.fetch import frames_at
        from keel.probe.looking import frames_seen, longest

        manifest, lens = making.snapshot.manifest, making.lens
        if not manifest.lines:
            return (), (), 0
        found = making.in_span(Span(lens.start - longest(manifest), lens.end))
        if len(found) > MOST_FRAMES:
            return (), (), len(found)
        if not len(found):
            return (), (), 0
        batch, numbers = frames_at(found, 0, len(found)), found.numbers(0, len(found))
        column = (lens.end - lens.start) / self.columns
        seen = frames_seen(
            waves, making.snapshot, batch, numbers.tolist(), lens, LEAST_COLUMNS * column, LEAST_BIT_COLUMNS * column
        )
        rows = _rows(making, batch, numbers, {frame.number for frame in seen}) if self.has_table else ()
        return seen, rows, 0


def _rows(making: Making, batch: FrameBatch, numbers: Any, seen: set[int]) -> tuple[dict[str, Any], ...]:
    """The frames that are seen as a table has them."""
    from keel.probe.spans import each, spans_of

    snapshot = making.snapshot
    rows = each(snapshot, batch, spans_of(snapshot, batch), numbers)
    return tuple(row for row in rows if row["number"] - 1 in seen)
