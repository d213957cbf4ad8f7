"""Exchanging the frames of some buses for others: for lines that are decoded anew.

Segments from the first one that is touched are written again, merged by time, under new numbers; then the manifest
changes at once. The old ones are kept aside, so that all of it can be taken back, and forth again.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from keel.errors import RecordingError
from keel.model.bus import Bus
from keel.model.extensible import from_plain, to_plain
from keel.model.frames import FrameBatch, Mask, Times, concat
from keel.model.span import Mark
from keel.store.chunk import Carry
from keel.store.edge import at_the_edge
from keel.store.index import index_path
from keel.store.locks import WriterLock
from keel.store.manifest import Comment, Manifest, SegmentEntry, edit_manifest, load_manifest
from keel.store.sealing import journal_numbers
from keel.store.segment import ASIDE, Sealed, aside_path, segment_path, write_segment
from keel.store.waveform_entries import LineEntry, Replaced, WaveformEntry
from keel.store.writer import SEAL_ROWS, Writer, carry_of

NEAR_NS = 1_000
"""A frame that was decoded anew is the same one if it begins so near."""
Progress = Callable[[int, int], None]


def replace_frames(
    folder: Path,
    buses: Collection[int],
    fresh: FrameBatch,
    change: Callable[[Manifest], None],
    progress: Progress = lambda *_: None,
) -> None:
    """Exchange the frames of some buses.

    Args:
        folder: The recording.
        buses: Whose frames go.
        fresh: What comes in their place, sorted by time.
        change: What else changes in the manifest, at the same moment.
        progress: Told how many segments of how many are done.

    Raises:
        RecordingBusy: somebody writes to it.
        RecordingError: it is packed or damaged, or there is no room.
    """
    if load_manifest(folder).packed:
        raise RecordingError(str(folder), "is packed; keel unpack makes it one that can be decoded anew")
    if journal_numbers(folder):
        # What a killed recorder left in the journal is sealed first.
        Writer(folder).close()
    with WriterLock(folder, "a recorder is writing to it"), at_the_edge(folder, "be written"):
        manifest = load_manifest(folder)
        kept = _first_touched(folder, manifest, buses, fresh)
        draft = replace(manifest, buses=list(manifest.buses))
        change(draft)
        made = _Remaking(folder, manifest, kept, buses, fresh, progress)
        made.write(draft.buses)
        with edit_manifest(folder) as manifest:
            before = manifest.replaced
            old = manifest.segments[kept:]
            manifest.replaced = Replaced(
                tuple(map(to_plain, old)),
                tuple(map(to_plain, manifest.lines)),
                tuple(map(to_plain, manifest.buses)),
                tuple(map(to_plain, manifest.comments)),
                by=tuple(entry.number for entry in made.entries),
                waveforms=tuple(map(to_plain, manifest.waveforms)),
            )
            manifest.segments = [*manifest.segments[:kept], *made.entries]
            manifest.generation += 1
            made.move_comments(manifest)
            change(manifest)
        _forget(folder, before)
        _set_aside(folder, [entry.number for entry in old])


def take_back(folder: Path) -> None:
    """Exchange what was decoded last for what stood before it; again, and it is there again.

    Raises:
        RecordingBusy: somebody writes to it.
        RecordingError: nothing was decoded anew, or frames were added since.
    """
    with WriterLock(folder, "a recorder is writing to it"), at_the_edge(folder, "be written"):
        manifest = load_manifest(folder)
        last = manifest.replaced
        if last is None:
            raise RecordingError(str(folder), "nothing was decoded anew: there is nothing to take back")
        kept = len(manifest.segments) - len(last.by)
        if kept < 0 or tuple(entry.number for entry in manifest.segments[kept:]) != last.by:
            raise RecordingError(str(folder), "frames were added since: what was decoded before cannot be brought back")
        old = [from_plain(entry, SegmentEntry) for entry in last.segments]
        _bring_back(folder, [entry.number for entry in old])
        with edit_manifest(folder) as manifest:
            now = manifest.segments[kept:]
            manifest.replaced = Replaced(
                tuple(map(to_plain, now)),
                tuple(map(to_plain, manifest.lines)),
                tuple(map(to_plain, manifest.buses)),
                tuple(map(to_plain, manifest.comments)),
                by=tuple(entry.number for entry in old),
                waveforms=tuple(map(to_plain, manifest.waveforms)),
            )
            manifest.segments = [*manifest.segments[:kept], *old]
            manifest.lines = [from_plain(line, LineEntry) for line in last.lines]
            manifest.buses = [from_plain(bus, Bus) for bus in last.buses]
            manifest.comments = [from_plain(comment, Comment) for comment in last.comments]
            if last.waveforms:
                manifest.waveforms = [from_plain(entry, WaveformEntry) for entry in last.waveforms]
            manifest.generation += 1
        _set_aside(folder, [entry.number for entry in now])


def _first_touched(folder: Path, manifest: Manifest, buses: Collection[int], fresh: FrameBatch) -> int:
    """The place of the first segment that changes."""
    begin = int(fresh.time[0]) if len(fresh) else None
    for place, entry in enumerate(manifest.segments):
        keys = Sealed(folder, entry, 0, Carry).index.keys
        if (begin is not None and entry.end >= begin) or np.isin(keys >> np.uint64(56), list(buses)).any():
            return place
    return len(manifest.segments)


Numbered = tuple[FrameBatch, Times]
"""Frames, and the number that each had before; -1 for those that are new."""


@dataclass
class _Remaking:
    """Segments that are written anew.

    Attributes:
        kept: How many of the segments stay.
        entries: What was written.
        moved: The new numbers of frames with comments, by their old ones.
    """

    folder: Path
    manifest: Manifest
    kept: int
    buses: Collection[int]
    fresh: FrameBatch
    progress: Progress
    entries: list[SegmentEntry] = field(default_factory=list)
    moved: dict[int, int] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.first = sum(entry.rows for entry in self.manifest.segments[: self.kept])
        self.fresh_numbers = np.full(len(self.fresh), -1)
        self.said_of = {comment.number for comment in self.manifest.comments}
        self.times: dict[int, int] = {}

    def write(self, named: Sequence[Bus]) -> None:
        """Write them.

        Args:
            named: The buses, as they are called from now on.
        """
        carry = carry_of(self.folder, replace(self.manifest, segments=self.manifest.segments[: self.kept]))
        used = [entry.number for entry in self.manifest.segments]
        number = max(used + _numbers_aside(self.folder), default=0) + 1
        names, first = [bus.name for bus in named], self.first
        try:
            for batch, numbers in _in_segments(self._merged()):
                for old in self.said_of:
                    place = np.flatnonzero(numbers == old)
                    if len(place):
                        self.moved[old] = first + int(place[0])
                self.entries.append(write_segment(segment_path(self.folder, number), batch, names, carry))
                first, number = first + len(batch), number + 1
        except BaseException:
            for entry in self.entries:
                _remove(segment_path(self.folder, entry.number))
            raise

    def _merged(self) -> Iterator[Numbered]:
        """What stays of the old segments, and what comes, in the order of its time."""
        at, first, latest = 0, self.first, int(np.iinfo(np.int64).min)
        entries, fresh = self.manifest.segments[self.kept :], self.fresh
        for place, entry in enumerate(entries):
            old = Sealed(self.folder, entry, first, Carry)
            batch = old.arrivals(0, len(old))
            goes = np.isin(batch.bus, list(self.buses))
            self._find_again(batch, goes, first)
            stays = np.flatnonzero(~goes)
            batch = batch.take(stays)
            # Frames that arrived late stay where they arrived.
            times = np.maximum.accumulate(np.maximum(batch.time, latest)) if len(batch) else batch.time
            latest = int(times[-1]) if len(times) else latest
            is_last = place == len(entries) - 1
            until = len(fresh) if is_last else max(int(np.searchsorted(fresh.time, latest)), at)
            both = concat([part for part in (batch, fresh.slice(at, until)) if len(part)] or [batch])
            order = np.argsort(np.concatenate([times, fresh.time[at:until]]), kind="stable")
            yield both.take(order), np.concatenate([first + stays, self.fresh_numbers[at:until]])[order]
            at, first = until, first + entry.rows
            self.progress(place + 1, len(entries))
        if at < len(fresh):
            yield fresh.slice(at, len(fresh)), self.fresh_numbers[at:]

    def _find_again(self, batch: FrameBatch, goes: Mask, first: int) -> None:
        """Find the frames with comments that go among those that come."""
        for comment in (n for n in self.said_of if first <= n < first + len(batch) and goes[n - first]):
            time, bus = int(batch.time[comment - first]), int(batch.bus[comment - first])
            self.times[comment] = time
            low, high = np.searchsorted(self.fresh.time, [time - NEAR_NS, time + NEAR_NS + 1]).tolist()
            same = low + np.flatnonzero(self.fresh.bus[low:high] == bus)
            if len(same):
                self.fresh_numbers[same[np.abs(self.fresh.time[same] - time).argmin()]] = comment

    def move_comments(self, manifest: Manifest) -> None:
        """Comments go with their frames; one whose frame is no more becomes a mark."""
        kept = []
        for comment in manifest.comments:
            if comment.number in self.times and comment.number not in self.moved:
                number = max((mark.number for mark in manifest.marks), default=0) + 1
                manifest.marks.append(Mark(number, self.times[comment.number], comment.text))
            else:
                kept.append(replace(comment, number=self.moved.get(comment.number, comment.number)))
        manifest.comments = kept


def _in_segments(parts: Iterator[Numbered]) -> Iterator[Numbered]:
    """The same, cut so that no part is larger than a segment."""
    for batch, numbers in parts:
        for low in range(0, len(batch), SEAL_ROWS):
            high = min(low + SEAL_ROWS, len(batch))
            yield batch.slice(low, high), numbers[low:high]


def _paths(folder: Path, number: int) -> list[Path]:
    path = segment_path(folder, number)
    return [path, index_path(path)]


def _remove(path: Path) -> None:
    for one in (path, index_path(path)):
        one.unlink(missing_ok=True)


def _numbers_aside(folder: Path) -> list[int]:
    return [int(path.stem) for path in (folder / ASIDE).glob("*.arrow") if path.stem.isdigit()]


def _set_aside(folder: Path, numbers: Sequence[int]) -> None:
    (folder / ASIDE).mkdir(exist_ok=True)
    for number in numbers:
        for path in _paths(folder, number):
            if path.exists():
                path.replace(aside_path(path))


def _bring_back(folder: Path, numbers: Sequence[int]) -> None:
    for number in numbers:
        for path in _paths(folder, number):
            if aside_path(path).exists():
                aside_path(path).replace(path)
        if not segment_path(folder, number).exists():
            raise RecordingError(str(segment_path(folder, number)), "is gone: it cannot be brought back")


def _forget(folder: Path, before: Replaced | None) -> None:
    """Remove what was kept aside for an earlier time."""
    for entry in before.segments if before is not None else ():
        for path in _paths(folder, int(entry["number"])):
            aside_path(path).unlink(missing_ok=True)
