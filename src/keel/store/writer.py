"""Writing a recording: rows go to the journal at once, full journals are sealed into segments behind it."""

from __future__ import annotations

import fcntl
import os
import time
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from typing import IO

from keel.errors import RecordingBusy, RecordingError
from keel.model.bus import Bus
from keel.model.frames import FrameBatch, concat
from keel.store.journal import ROW_BYTES, JournalReader, encode_block
from keel.store.manifest import FILE, Manifest, SegmentEntry, edit_manifest, load_manifest, save_manifest
from keel.store.segment import segment_path, write_segment

SEAL_ROWS = 1 << 20
SEAL_BYTES = 128 << 20
SYNC_EVERY_S = 0.5


def journal_path(folder: Path, number: int) -> Path:
    """Where a journal lies."""
    return folder / "journal" / f"{number:06d}.rows"


def journal_numbers(folder: Path) -> list[int]:
    """The journals that are there, in order."""
    names = (p.stem for p in (folder / "journal").glob("*.rows"))
    return sorted(int(name) for name in names if name.isdigit())


def create_recording(folder: Path, manifest: Manifest) -> None:
    """Make an empty recording.

    Raises:
        RecordingError: something is there already, or the folder cannot be made.
    """
    if (folder / FILE).exists():
        raise RecordingError(str(folder), "there is a recording of this name already")
    try:
        for part in ("segments", "journal"):
            (folder / part).mkdir(parents=True, exist_ok=True)
        save_manifest(folder, manifest)
    except OSError as error:
        raise RecordingError(str(folder), f"cannot be made ({error.strerror})") from None


class Writer:
    """Adds frames to a recording. One at a time per recording, held by a lock that dies with the process."""

    def __init__(self, folder: Path, *, journal: bool = True) -> None:
        """Open for adding; what an earlier writer left unsealed is sealed first.

        Args:
            folder: The recording.
            journal: Write rows to the journal at once. Off for imports, which can be run again.

        Raises:
            RecordingBusy: another writer has it.
        """
        self.folder = folder
        self._lock = (folder / ".writer").open("w")
        try:
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            self._lock.close()
            raise RecordingBusy(str(folder), "another recorder is writing to it") from None
        self._journaled = journal
        self._file: IO[bytes] | None = None
        self._pending: list[FrameBatch] = []
        self._rows = self._bytes = 0
        self._sealer = ThreadPoolExecutor(1, "seal")
        self._syncer = ThreadPoolExecutor(1, "sync")
        self._jobs: list[Future[None]] = []
        self._synced = time.monotonic()
        manifest = load_manifest(folder)
        self.buses = list(manifest.buses)
        self._number = max((s.number for s in manifest.segments), default=0) + 1
        self._recover()

    def _recover(self) -> None:
        for number in journal_numbers(self.folder):
            if number >= self._number:
                self._pending = JournalReader(journal_path(self.folder, number)).read_new()
                self._number = number
                self._rotate()
            else:
                journal_path(self.folder, number).unlink()
        self._wait()

    def add_bus(self, bus: Bus) -> int:
        """Add a bus that turned up; returns its index."""
        self.buses.append(bus)
        with edit_manifest(self.folder) as manifest:
            manifest.buses = list(self.buses)
        return len(self.buses) - 1

    def append(self, batch: FrameBatch) -> None:
        """Add frames; with a journal they survive a crash of this process from here on."""
        if not len(batch):
            return
        if self._journaled:
            if self._file is None:
                self._file = journal_path(self.folder, self._number).open("ab", buffering=0)
            self._file.write(encode_block(batch))
            now = time.monotonic()
            if now - self._synced >= SYNC_EVERY_S:
                self._synced = now
                self._syncer.submit(os.fsync, os.dup(self._file.fileno())).add_done_callback(_ignore)
        self._pending.append(batch)
        self._rows += len(batch)
        self._bytes += len(batch) * ROW_BYTES + int(batch.offsets[-1])
        if self._rows >= SEAL_ROWS or self._bytes >= SEAL_BYTES:
            self._rotate()

    def _rotate(self) -> None:
        """Hand the rows gathered so far to the sealing thread and begin anew."""
        if self._file is not None:
            self._file.close()
            self._file = None
        if self._pending:
            self._jobs = [job for job in self._jobs if not job.done() or job.result()]
            while len(self._jobs) > 1:
                self._jobs.pop(0).result()
            self._jobs.append(self._sealer.submit(self._seal, self._number, self._pending))
        self._number += 1
        self._pending = []
        self._rows = self._bytes = 0

    def _seal(self, number: int, batches: list[FrameBatch]) -> None:
        batch = concat(batches)
        write_segment(segment_path(self.folder, number), batch, [b.name for b in self.buses])
        entry = SegmentEntry(number, len(batch), int(batch.time.min()), int(batch.time.max()))
        with edit_manifest(self.folder) as manifest:
            manifest.segments.append(entry)
        # Only now: until the manifest names the segment, the journal is what readers read.
        journal_path(self.folder, number).unlink(missing_ok=True)

    def _wait(self) -> None:
        for job in self._jobs:
            job.result()
        self._jobs = []

    def close(self) -> None:
        """Seal everything and let go of the recording."""
        self._rotate()
        self._wait()
        self._sealer.shutdown()
        self._syncer.shutdown()
        self._lock.close()


def _ignore(job: Future[None]) -> None:
    job.exception()


def is_being_written(folder: Path) -> bool:
    """Whether a recorder is at work on it."""
    try:
        with (folder / ".writer").open("r") as lock:
            fcntl.flock(lock, fcntl.LOCK_SH | fcntl.LOCK_NB)
            return False
    except BlockingIOError:
        return True
    except OSError:
        return False
