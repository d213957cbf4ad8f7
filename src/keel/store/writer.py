"""Writing a recording: rows go to the journal at once, full journals are sealed into segments behind it."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import IO

import numpy as np

from keel.errors import RecordingError
from keel.model.bus import Bus
from keel.model.frames import FrameBatch
from keel.store.chunk import Carry
from keel.store.journal import ROW_BYTES, JournalReader, encode_block
from keel.store.locks import WriterLock
from keel.store.manifest import FILE, SCHEMA, Manifest, edit_manifest, load_manifest, save_manifest
from keel.store.sealing import Sealer, journal_numbers, journal_path
from keel.store.segment import Sealed

SEAL_ROWS = 1 << 20
SEAL_BYTES = 128 << 20
SYNC_EVERY_S = 0.5
KEPT_FREE = 1 << 18
"""So much of a disk that was full is left free before frames are written again."""


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
    """Adds frames to a recording. One at a time per recording, held by a lock that dies with the process.

    Attributes:
        taken: How many frames were taken; what was refused is not among them.
        written: How many bytes of them, at most, lie on the disk.
    """

    def __init__(self, folder: Path, *, journal: bool = True) -> None:
        """Open for adding; what an earlier writer left unsealed is sealed first.

        Args:
            folder: The recording.
            journal: Write rows to the journal at once. Off for imports, which can be run again.

        Raises:
            RecordingBusy: another writer has it.
            RecordingError: it is packed.
        """
        self.folder = folder
        self._lock = WriterLock(folder)
        self._journaled = journal
        self.taken = self.written = 0
        self._full = False
        self._file: IO[bytes] | None = None
        self._written = 0
        self._pending: list[FrameBatch] = []
        self._rows = self._bytes = 0
        self._syncer = ThreadPoolExecutor(1, "sync")
        self._synced = time.monotonic()
        manifest = load_manifest(folder)
        if manifest.packed:
            raise RecordingError(str(folder), "is packed; keel unpack makes it one that can be added to")
        if manifest.schema != SCHEMA:
            with edit_manifest(folder) as manifest:
                manifest.schema = SCHEMA
        self.buses = list(manifest.buses)
        self._number = max((s.number for s in manifest.segments), default=0) + 1
        self._sealer = Sealer(folder, lambda: self.buses, carry_of(folder, manifest))
        self._recover()

    def _recover(self) -> None:
        for number in journal_numbers(self.folder):
            if number >= self._number:
                reader = JournalReader(journal_path(self.folder, number))
                self._pending = reader.read_new()
                reader.close()
                if reader.damaged:
                    with edit_manifest(self.folder) as manifest:
                        manifest.notes.append(
                            f"{reader.damaged} bytes of journal {number} were damaged and passed over"
                        )
                self._number = number
                self._rotate()
            else:
                journal_path(self.folder, number).unlink()
        self._sealer.wait()

    @property
    def trouble(self) -> str:
        """What keeps rows from being sealed, if anything; they are safe in the journal."""
        return self._sealer.trouble

    def add_bus(self, bus: Bus) -> int:
        """Add a bus that turned up; returns its index."""
        # In the manifest first: a reader finds every bus there that frames in the journal are of.
        with edit_manifest(self.folder) as manifest:
            # What others said of the buses meanwhile stays.
            manifest.buses.append(bus)
            self.buses = list(manifest.buses)
        return len(self.buses) - 1

    def append(self, batch: FrameBatch) -> None:
        """Add frames; with a journal they survive a crash of this process from here on.

        Raises:
            RecordingError: the disk is full or fails. What was added before is safe; of this batch some may be.
        """
        for piece in _pieces(batch, SEAL_ROWS, SEAL_BYTES):
            if self._journaled:
                self._write(encode_block(piece))
            self._pending.append(piece)
            self._rows += len(piece)
            self.taken += len(piece)
            size = len(piece) * ROW_BYTES + int(piece.offsets[-1] - piece.offsets[0])
            self._bytes += size
            self.written += size
            if self._rows >= SEAL_ROWS or self._bytes >= SEAL_BYTES:
                self._rotate()

    def _write(self, block: bytes) -> None:
        path = journal_path(self.folder, self._number)
        if self._full and free_bytes(self.folder) < len(block) + KEPT_FREE:
            raise RecordingError(str(path), "cannot be written (the disk is full)")
        try:
            if self._file is None:
                self._file = path.open("ab", buffering=0)
                self._written = self._file.tell()
            rest = memoryview(block)
            while rest:
                # A disk that fills up takes a part and says so.
                rest = rest[self._file.write(rest) or 0 :]
        except OSError as error:
            # What room is left is for saying so: for the manifest, and what the recorder says of itself.
            self._full = True
            if self._file is not None:
                os.ftruncate(self._file.fileno(), self._written)
                self._file.seek(self._written)
            raise RecordingError(str(path), f"cannot be written ({error.strerror})") from None
        self._full = False
        self._written += len(block)
        now = time.monotonic()
        if now - self._synced >= SYNC_EVERY_S:
            self._synced = now
            self._syncer.submit(_sync, os.dup(self._file.fileno()))

    def _rotate(self) -> None:
        """Hand the rows gathered so far to the sealing thread and begin anew."""
        if self._file is not None:
            self._file.close()
            self._file = None
        if self._pending or self._journaled:
            self._sealer.seal(self._number, self._pending, self._journaled)
        self._number += 1
        self._pending = []
        self._rows = self._bytes = 0

    def close(self) -> None:
        """Seal everything and let go of the recording.

        Raises:
            RecordingError: the disk is full; the rows that could not be sealed are in the journal.
        """
        try:
            self._rotate()
            self._sealer.close()
            if self.trouble:
                raise RecordingError(str(self.folder), f"{self.trouble}; its newest frames stay in the journal")
        finally:
            self._syncer.shutdown()
            self._lock.close()


def carry_of(folder: Path, manifest: Manifest) -> Carry:
    """What the sealed frames leave behind."""
    carry = Carry()
    for entry in manifest.segments:
        try:
            Sealed(folder, entry, 0, carry.copy).advance(carry)
        except RecordingError:
            continue
    return carry


def _pieces(batch: FrameBatch, most_rows: int, most_bytes: int) -> Iterator[FrameBatch]:
    """The batch cut so that no piece fills more than a segment."""
    start = 0
    while start < len(batch):
        stop = min(start + most_rows, len(batch))
        end = int(batch.offsets[start]) + most_bytes
        if int(batch.offsets[stop]) > end:
            stop = max(int(np.searchsorted(batch.offsets, end, side="right")) - 1, start + 1)
        yield batch if (start, stop) == (0, len(batch)) else batch.slice(start, stop)
        start = stop


def free_bytes(folder: Path) -> int:
    """How much room there is on the disk."""
    try:
        found = os.statvfs(folder)
    except OSError:
        return 0
    return found.f_bavail * found.f_frsize


def _sync(file: int) -> None:
    try:
        os.fsync(file)
    except OSError:
        # The next write says what is wrong.
        pass
    finally:
        os.close(file)
