"""What Line wants of the desk: outlines of the channels over the lens, and the frames that were read of them."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from keel.app.desk.errands import Errand
from keel.app.views.line.choices import Task
from keel.app.views.line.measures import Measures, measure
from keel.model.span import Span

if TYPE_CHECKING:
    from keel.app.desk.making import Making
    from keel.probe.looking import Lane, SeenFrame, Waves

MOST_FRAMES = 2000
"""More frames in the lens are not looked at one by one."""
LEAST_COLUMNS = 16
"""Fields are found of frames that are at least so many columns of dots wide."""


@dataclass(frozen=True, eq=False)
class LineShown:
    """Line's part of a picture.

    Attributes:
        span: The lens it was made for.
        frames: Those in it; ``many`` says how many there are where they are not looked at one by one.
        volts: Of the channel in hand at the cursors.
        between: How many edges lie between the cursors.
        measures: The margins that are wanted.
    """

    span: Span = field(default_factory=lambda: Span(0, 0))
    lanes: tuple[Lane, ...] = ()
    frames: tuple[SeenFrame, ...] = ()
    many: int = 0
    volts: tuple[float | None, ...] = ()
    between: int | None = None
    measures: Errand[Measures] = field(default_factory=Errand)


@dataclass(frozen=True)
class LineWant:
    """What is to be read.

    Attributes:
        shown: The numbers of the channels that are drawn.
        in_hand: That of the one in hand.
        columns: Columns of dots.
        cursors: Times in ns.
        task: Of which line the margins are measured.
    """

    shown: tuple[int, ...] = ()
    in_hand: int | None = None
    columns: int = 2
    cursors: tuple[int, ...] = ()
    task: Task | None = None

    def make(self, making: Making) -> LineShown:
        """Line's part."""
        import numpy as np

        from keel.probe.looking import Waves, at_cursors, lane_of
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
        frames, many = _frames(making, waves, self.columns)
        volts, between = at_cursors(waves, snapshot, entries.get(self.in_hand or -1), self.cursors)
        return LineShown(lens, tuple(lanes), frames, many, volts, between, self._measures(making))

    def _measures(self, making: Making) -> Errand[Measures]:
        task = self.task
        if task is None:
            return Errand()
        snapshot = making.snapshot
        key = (making.folder, snapshot.manifest.generation, making.lens, making.wish.ask, task)
        return making.errands.run(Measures, key, lambda stopped, show: measure(making, task, stopped, show))


def _frames(making: Making, waves: Waves, columns: int) -> tuple[tuple[SeenFrame, ...], int]:
    """The frames in the lens that meet the ask and were read from a waveform; or how many, where there are too many."""
    from keel.ask.fetch import frames_at
    from keel.probe.looking import frames_seen, longest

    manifest, lens = making.snapshot.manifest, making.lens
    if not manifest.lines:
        return (), 0
    found = making.in_span(Span(lens.start - longest(manifest), lens.end))
    if len(found) > MOST_FRAMES:
        return (), len(found)
    if not len(found):
        return (), 0
    batch, numbers = frames_at(found, 0, len(found)), found.numbers(0, len(found)).tolist()
    least = LEAST_COLUMNS * (lens.end - lens.start) / columns
    return frames_seen(waves, making.snapshot, batch, numbers, lens, least), 0
