"""Several sources as one: their buses side by side, their frames in order of time, on one clock."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

import numpy as np

from keel.model.bus import MOST_BUSES, Bus
from keel.model.frames import FrameBatch, concat, empty_batch, replace_columns
from keel.model.units import FIRST_DATED_NS
from keel.sources.feed import Feed
from keel.sources.source import Lost
from keel.store.manifest import edit_manifest, load_manifest
from keel.store.writer import Writer


class Joined:
    """What comes of all sources.

    Attributes:
        refused: Frames that could not be taken: of too many buses, or of another clock than the recording's.
        said: Why, in sentences.
    """

    def __init__(self, folder: Path, writer: Writer, feeds: Sequence[Feed]) -> None:
        self._folder, self._writer, self._feeds = folder, writer, feeds
        self._places: list[list[int]] = [[] for _ in feeds]
        self._is_dated: bool | None = None
        self._met: dict[int, bool] = {}
        self.refused = Lost()
        self.said: list[str] = []
        manifest = load_manifest(folder)
        if manifest.segments:
            self._is_dated = manifest.is_dated

    def name_buses(self) -> None:
        """Give every bus of the sources a place in the recording: one of its name that no other source has, or a new
        one."""
        for number, feed in enumerate(self._feeds):
            places = self._places[number]
            for bus in feed.source.buses[len(places) :]:
                places.append(self._place(bus, number))

    def _place(self, bus: Bus, source: int) -> int:
        taken = {place for other, places in enumerate(self._places) for place in places if other != source}
        for place, known in enumerate(self._writer.buses):
            if (known.name, known.medium) == (bus.name, bus.medium) and place not in taken:
                return place
        if len(self._writer.buses) >= MOST_BUSES:
            return -1
        names, name, count = {known.name for known in self._writer.buses}, bus.name, 1
        while name in names:
            count += 1
            name = f"{bus.name} {count}"
        return self._writer.add_bus(replace(bus, name=name))

    def take(self) -> FrameBatch:
        """What came since the last call, in order of time where there are several sources."""
        taken = []
        for number, feed in enumerate(self._feeds):
            batches = feed.take()
            if batches:
                taken.append(self._laid(number, concat(batches)))
        taken = [batch for batch in taken if len(batch)]
        if not taken:
            return empty_batch()
        if len(taken) == 1:
            return taken[0]
        whole = concat(taken)
        return whole.take(np.argsort(whole.time, kind="stable"))

    def _laid(self, number: int, batch: FrameBatch) -> FrameBatch:
        """A source's frames on the buses of the recording."""
        if not self._meets_clock(number, batch):
            return empty_batch()
        with suppress(OSError):
            # A disk without room for a name has none for frames either; that is told where they are written.
            self.name_buses()
        places = np.full(int(batch.bus.max(initial=0)) + 1, -1, np.int64)
        known = self._places[number][: len(places)]
        places[: len(known)] = known
        bus = places[batch.bus]
        if (bus < 0).any():
            rows = np.flatnonzero(bus >= 0)
            self._refuse(len(batch) - len(rows), f"frames of more than {MOST_BUSES} buses cannot be kept")
            batch, bus = batch.take(rows), bus[rows]
        return replace_columns(batch, bus=bus.astype(np.uint8))

    def _refuse(self, count: int, why: str) -> None:
        self.refused = self.refused + Lost(source=count)
        if why not in self.said:
            self.said.append(why)

    def _meets_clock(self, number: int, batch: FrameBatch) -> bool:
        """Whether a source counts as the recording does: by dates, or not. The first frame of all decides."""
        if number not in self._met:
            has_date = int(batch.time[0]) >= FIRST_DATED_NS
            if self._is_dated is None:
                self._is_dated = has_date
                if not has_date:
                    with suppress(OSError), edit_manifest(self._folder) as manifest:
                        manifest.is_dated = False
            self._met[number] = has_date == self._is_dated
        if not self._met[number]:
            has = "dates" if self._is_dated else "no dates"
            title = self._feeds[number].source.title
            self._refuse(
                len(batch), f"{title}: its frames were not kept, for the recording's times have {has} and its not"
            )
        return self._met[number]
