"""Reading a recording, also while it grows."""

from __future__ import annotations

from bisect import bisect_right
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path

from keel.errors import RecordingError
from keel.model.bus import Bus
from keel.model.frames import FrameBatch, concat, empty_batch
from keel.model.span import Span
from keel.signals.book import Book
from keel.signals.dictionary import Dictionary
from keel.store.chunk import Carry, Chunk, cluster
from keel.store.dictionaries import load_copies
from keel.store.journal import JournalReader
from keel.store.locks import is_being_written
from keel.store.manifest import FILE, DictionaryEntry, Manifest, SegmentEntry, load_manifest
from keel.store.sealing import journal_numbers, journal_path
from keel.store.segment import Sealed
from keel.store.waveforms import StoredWaveform

PAGE_ROWS = 1 << 14
"""Rows of the newest chunk at most: it is clustered anew each time rows are added."""


@dataclass(frozen=True, eq=False)
class Snapshot:
    """The recording as it stood at one moment; immutable, so that any thread may work on it."""

    manifest: Manifest
    chunks: tuple[Chunk, ...]
    live: bool
    problems: tuple[str, ...] = ()
    book: Book = field(default_factory=Book)
    was_cut_short: bool = False
    """Whether its recorder ended without closing it: then the newest rows still lie in the journal."""
    waveforms: tuple[StoredWaveform, ...] = ()

    @property
    def frames(self) -> int:
        """How many frames there are."""
        return self.chunks[-1].first + len(self.chunks[-1]) if self.chunks else 0

    @property
    def span(self) -> Span:
        """From the first frame to just after the last, waveforms taken in; empty at 0 where there is nothing."""
        spans = [(c.span.start, c.span.end + 1) for c in self.chunks]
        spans += [(w.start, w.end) for w in self.manifest.waveforms]
        return Span(min(start for start, _ in spans), max(end for _, end in spans)) if spans else Span(0, 0)

    @property
    def zero(self) -> int:
        """When time is 0: at the first frame, or where a clock without a date begins."""
        return self.span.start if self.manifest.is_dated else 0

    @cached_property
    def firsts(self) -> list[int]:
        """The number of the first frame of each chunk."""
        return [chunk.first for chunk in self.chunks]

    def chunk_of(self, number: int) -> int:
        """Which chunk holds a frame, by its number."""
        return bisect_right(self.firsts, number) - 1

    def rows(self, start: int, stop: int) -> FrameBatch:
        """Frames by number in order of arrival."""
        parts = []
        for chunk in self.chunks[max(self.chunk_of(start), 0) :]:
            if chunk.first >= stop:
                break
            low, high = max(start - chunk.first, 0), min(stop - chunk.first, len(chunk))
            if low < high:
                parts.append(chunk.arrivals(low, high))
        return concat(parts) if parts else empty_batch()


@dataclass
class _Tail:
    """The rows of one journal, in memory, as pages; the last page is still open."""

    reader: JournalReader
    carry: Carry
    first: int
    pages: list[Chunk] = field(default_factory=list)
    open_rows: list[FrameBatch] = field(default_factory=list)
    open_page: Chunk | None = None

    @property
    def rows(self) -> int:
        """How many rows it holds."""
        return sum(map(len, self.pages)) + (len(self.open_page) if self.open_page else 0)


class Recording:
    """A recording on disk, read without locks. `refresh` looks for what was added; not thread-safe itself."""

    def __init__(self, folder: Path) -> None:
        """Open it.

        Raises:
            NotARecording: the folder holds none.
            RecordingError: it is packed.
        """
        self.folder = folder
        self.manifest = load_manifest(folder)
        if self.manifest.packed:
            raise RecordingError(str(folder), "is packed for keeping; keel unpack makes it readable again")
        self._tails: dict[int, _Tail] = {}
        self._copies: tuple[list[DictionaryEntry], list[Dictionary], list[str]] = ([], [], [])
        self._book = Book()
        self._begin()
        self.refresh()

    def _begin(self) -> None:
        """Nothing is read yet."""
        for tail in self._tails.values():
            tail.reader.close()
        self._stamp: object = None
        self._sealed: list[Sealed] = []
        self._sealed_up_to = self._frames = 0
        self._carry, self._carried = Carry(), 0
        self._tails = {}
        self._problems: list[str] = []
        self._damaged = 0
        self._most_bus = -1
        self._waveforms: tuple[StoredWaveform, ...] = ()

    def refresh(self) -> bool:
        """Take in what was added since; returns whether anything changed.

        Raises:
            RecordingError: it is gone.
        """
        if not (self.folder / FILE).exists():
            # Renamed or removed as a whole: what is mapped stays readable, and stays what it was.
            raise RecordingError(str(self.folder), "is gone: the folder was renamed or removed")
        if not all(chunk.is_whole for chunk in self._sealed):
            # A segment was cut, or is gone: what is left is read anew, without it.
            self._begin()
        # The order matters: a journal that is not listed here is in the manifest that is read next.
        listed = journal_numbers(self.folder)
        changed = self._refresh_manifest()
        for number in listed:
            if number <= self._sealed_up_to:
                continue
            if number not in self._tails:
                self._tails[number] = self._new_tail(number)
            tail = self._tails[number]
            changed |= self._read_tail(tail)
            if tail.reader.gone:
                # Sealed and removed just now, unseen by us: the next call finds it in the manifest.
                del self._tails[number]
                break
        if self._most_bus >= len(self.manifest.buses):
            # It turned up between the two looks, at the manifest and at the journal.
            changed |= self._refresh_manifest()
            self._name_buses()
        return changed

    def _name_buses(self) -> None:
        """Give every bus that frames are of a name, also one that the manifest does not know."""
        known = self.manifest.buses
        if self._most_bus < len(known):
            return
        unknown = [Bus(f"bus {place}?") for place in range(len(known), self._most_bus + 1)]
        self.manifest = replace(self.manifest, buses=[*known, *unknown])
        self._book = Book(self._book.dictionaries, self.manifest.bus_names)
        sentence = f"the manifest names {len(known)} buses, but there are frames of more"
        if sentence not in self._problems:
            self._problems.append(sentence)

    def _new_tail(self, number: int) -> _Tail:
        reader = JournalReader(journal_path(self.folder, number))
        if not self._tails:
            return _Tail(reader, self._carry_after_sealed(len(self._sealed)), self._frames)
        last = self._tails[max(self._tails)]
        carry = last.carry.copy()
        if last.open_page is not None:
            last.open_page.advance(carry)
        return _Tail(reader, carry, last.first + last.rows)

    def _carry_after_sealed(self, count: int) -> Carry:
        """What the first so many sealed chunks leave behind."""
        if self._carried > count:
            self._carry, self._carried = Carry(), 0
        while self._carried < count:
            chunk = self._sealed[self._carried]
            self._carried += 1
            try:
                chunk.advance(self._carry)
            except RecordingError:
                continue
        return self._carry.copy()

    def snapshot(self) -> Snapshot:
        """The recording as it stands now."""
        chunks: list[Chunk] = list(self._sealed)
        for number in sorted(self._tails):
            tail = self._tails[number]
            chunks += tail.pages
            if tail.open_page is not None:
                chunks.append(tail.open_page)
        problems = list(self._problems)
        damaged = sum(t.reader.damaged for t in self._tails.values()) + self._damaged
        if damaged:
            problems.append(f"{damaged} bytes of the journal are damaged and were passed over")
        problems += self._copies[2]
        live = is_being_written(self.folder)
        cut_short = not live and any(tail.rows for tail in self._tails.values())
        return Snapshot(self.manifest, tuple(chunks), live, tuple(problems), self._book, cut_short, self._waveforms)

    def _refresh_manifest(self) -> bool:
        try:
            stat = (self.folder / FILE).stat()
        except OSError as error:
            raise RecordingError(str(self.folder), f"is gone ({error.strerror})") from None
        stamp = (stat.st_mtime_ns, stat.st_ino, stat.st_size)
        if stamp == self._stamp:
            return False
        self._stamp = stamp
        before, self.manifest = self.manifest, load_manifest(self.folder)
        if self.manifest.generation != before.generation:
            # Frames were decoded anew: the segments that were read are no longer those of the recording.
            self._begin()
            self._stamp = stamp
        entries = self.manifest.dictionaries
        if entries != self._copies[0]:
            self._copies = (entries, *load_copies(self.folder, entries))
        own = self.manifest.dictionary
        same = own == before.dictionary and self.manifest.buses == before.buses
        if not same or self._book.dictionaries != (own, *self._copies[1]):
            self._book = Book((own, *self._copies[1]), self.manifest.bus_names)
        if [stored.entry for stored in self._waveforms] != self.manifest.waveforms:
            known = {stored.entry: stored for stored in self._waveforms}
            found = (known.get(entry) or StoredWaveform(self.folder, entry) for entry in self.manifest.waveforms)
            self._waveforms = tuple(found)
        for entry in self.manifest.segments:
            if entry.number > self._sealed_up_to:
                self._add_segment(entry)
        self._name_buses()
        return True

    def _add_segment(self, entry: SegmentEntry) -> None:
        self._sealed_up_to = entry.number
        tail = self._tails.pop(entry.number, None)
        place = len(self._sealed)
        try:
            chunk = Sealed(self.folder, entry, self._frames, lambda: self._carry_after_sealed(place))
            if not chunk.index_is_whole:
                self._problems.append(
                    f"{chunk.path}: its index is lost and was made anew; keel verify --repair mends it"
                )
                # Now, so that a segment that cannot be read is told of at once.
                _ = chunk.index
        except RecordingError as error:
            self._problems.append(
                f"{error.where}: {error.what}; its {entry.rows} frames are missing; keel verify --repair saves the rest"
            )
            return
        self._sealed.append(chunk)
        self._frames += len(chunk)
        if tail is not None:
            self._damaged += tail.reader.damaged
            tail.reader.close()

    def _read_tail(self, tail: _Tail) -> bool:
        batches = tail.reader.read_new()
        if not batches:
            return False
        tail.open_rows += batches
        self._most_bus = max(self._most_bus, *(int(batch.bus.max(initial=0)) for batch in batches))
        rows = concat(tail.open_rows)
        first = tail.first + sum(map(len, tail.pages))
        while len(rows) >= PAGE_ROWS:
            page = Chunk(cluster(rows.slice(0, PAGE_ROWS)), tail.carry, first)
            page.advance(tail.carry)
            tail.pages.append(page)
            rows = rows.slice(PAGE_ROWS, len(rows))
            first += PAGE_ROWS
        tail.open_rows = [rows] if len(rows) else []
        tail.open_page = Chunk(cluster(rows), tail.carry, first) if len(rows) else None
        return True
