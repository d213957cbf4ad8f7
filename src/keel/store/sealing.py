"""Sealing: full journals become segments, one after another, behind the back of whoever records."""

from __future__ import annotations

import threading
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path

from keel.errors import RecordingError
from keel.model.bus import Bus
from keel.model.frames import FrameBatch, concat
from keel.store.chunk import Carry
from keel.store.journal import JournalReader
from keel.store.manifest import edit_manifest
from keel.store.segment import segment_path, write_segment

MOST_WAITING = 3


def journal_path(folder: Path, number: int) -> Path:
    """Where a journal lies."""
    return folder / "journal" / f"{number:06d}.rows"


def journal_numbers(folder: Path) -> list[int]:
    """The journals that are there, in order."""
    names = (p.stem for p in (folder / "journal").glob("*.rows"))
    return sorted(int(name) for name in names if name.isdigit())


class Sealer:
    """Seals in order. What cannot be sealed, on a full disk, stays in its journal and is tried again."""

    def __init__(self, folder: Path, buses: Callable[[], list[Bus]], carry: Carry) -> None:
        self._folder, self._buses, self._carry = folder, buses, carry
        self._pool = ThreadPoolExecutor(1, "seal")
        self._waiting = threading.Semaphore(MOST_WAITING)
        self._left: list[int] = []
        self._jobs: list[Future[None]] = []
        self.trouble = ""

    def seal(self, number: int, batches: list[FrameBatch], journaled: bool) -> None:
        """Seal some rows as segment ``number``; waits only if several are waiting already.

        Raises:
            RecordingError: an earlier one failed and its rows are in no journal.
        """
        self._waiting.acquire()
        failed = [job for job in self._jobs if job.done() and job.exception()]
        if failed:
            failed[0].result()
        self._jobs = [job for job in self._jobs if not job.done()]
        self._jobs.append(self._pool.submit(self._work, number, batches, journaled))

    def _work(self, number: int, batches: list[FrameBatch], journaled: bool) -> None:
        try:
            # In order: readers take it that all journals before a sealed one are sealed.
            for left in list(self._left):
                self._seal(left, JournalReader(journal_path(self._folder, left)).read_new())
                self._left.remove(left)
            self._seal(number, batches, journaled)
            self.trouble = ""
        except OSError as error:
            self.trouble = f"cannot be sealed ({error.strerror or error})"
            if not journaled:
                raise RecordingError(str(segment_path(self._folder, number)), self.trouble) from None
            self._left.append(number)
        finally:
            self._waiting.release()

    def _seal(self, number: int, batches: list[FrameBatch], durable: bool = True) -> None:
        batch = concat(batches)
        if len(batch):
            names = [bus.name for bus in self._buses()]
            # Should the disk fill up half way, the next try starts from where this one did.
            carry = self._carry.copy()
            entry = write_segment(segment_path(self._folder, number), batch, names, carry, durable)
            with edit_manifest(self._folder) as manifest:
                manifest.segments.append(entry)
            self._carry = carry
        # Only now: until the manifest names the segment, the journal is what readers read.
        journal_path(self._folder, number).unlink(missing_ok=True)

    def wait(self) -> None:
        """Wait until all is sealed that can be."""
        for job in self._jobs:
            job.result()
        self._jobs = []

    def close(self) -> None:
        """Wait, then stop."""
        try:
            self.wait()
        finally:
            self._pool.shutdown()
