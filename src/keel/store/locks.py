"""The lock by which one process at a time adds to a recording; others can see that it is held without taking it.

It dies with the process. Where the system has locks of an open file (Linux), whether one is held can be asked without
holding one oneself, so that readers are never in a writer's way; elsewhere readers hold it for a moment, and a writer
waits as long.
"""

from __future__ import annotations

import fcntl
import struct
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from keel.errors import RecordingBusy, RecordingError

FILE = ".writer"
WAIT_S = 0.5
_FLOCK = struct.Struct("@hhqqi4x")
_OF_OPEN_FILE = hasattr(fcntl, "F_OFD_SETLK")


class WriterLock:
    """Held from when it is made until it is closed, or the process ends."""

    def __init__(self, folder: Path, who: str = "another recorder is writing to it") -> None:
        """Take it.

        Raises:
            RecordingBusy: another has it; ``who`` says so.
            RecordingError: it cannot be made.
        """
        try:
            self._file: IO[str] = (folder / FILE).open("a")
        except OSError as error:
            raise RecordingError(str(folder), f"cannot be written ({error.strerror})") from None
        end = time.monotonic() + WAIT_S
        while not _take(self._file):
            if _OF_OPEN_FILE or time.monotonic() > end:
                self._file.close()
                raise RecordingBusy(str(folder), who)
            time.sleep(0.01)

    def close(self) -> None:
        """Let go of it."""
        self._file.close()

    def __enter__(self) -> WriterLock:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def _take(file: IO[str]) -> bool:
    try:
        if _OF_OPEN_FILE:
            fcntl.fcntl(file, fcntl.F_OFD_SETLK, _FLOCK.pack(fcntl.F_WRLCK, 0, 0, 0, 0))
        else:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except (BlockingIOError, PermissionError):
        return False
    return True


@contextmanager
def alone(path: Path) -> Iterator[None]:
    """Wait until nobody else holds a lock file, and hold it."""
    with path.open("w") as file:
        fcntl.flock(file, fcntl.LOCK_EX)
        yield


def is_being_written(folder: Path) -> bool:
    """Whether a recorder is at work on it."""
    try:
        with (folder / FILE).open("r") as file:
            if _OF_OPEN_FILE:
                # A reader may ask for what conflicts with a read lock: only a writer's does.
                found = fcntl.fcntl(file, fcntl.F_OFD_GETLK, _FLOCK.pack(fcntl.F_RDLCK, 0, 0, 0, 0))
                return bool(_FLOCK.unpack(found.ljust(_FLOCK.size, b"\0"))[0] != fcntl.F_UNLCK)
            fcntl.flock(file, fcntl.LOCK_SH | fcntl.LOCK_NB)
            return False
    except BlockingIOError:
        return True
    except OSError:
        return False
