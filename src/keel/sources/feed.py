"""A source read on a thread of its own, into a buffer that the recorder empties.

What goes wrong with one source ends nothing else: one that goes away leaves a hole and is asked for again and again;
one that fails ends, and says why.
"""

from __future__ import annotations

import logging
import threading
import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass

from keel.errors import ControlError, KeelError
from keel.model.frames import FrameBatch
from keel.sources.source import WAIT_S, Lost, Source, SourceGone

MOST_FRAMES, MOST_BYTES = 2_000_000, 256 << 20
"""So much a buffer holds; what comes while it is full is lost, and counted."""
RETURN_EVERY_S = 0.5
PER_FRAME = 48
"""Bytes a frame takes besides its payload."""


@dataclass
class Gap:
    """A time in which a source was not there: from, to (None: still), in ns since 1970; why, and why still."""

    start: int
    end: int | None
    why: str
    still: str = ""


class Feed:
    """Reads one source until it is stopped.

    Attributes:
        source: The source.
        gaps: When it was not there.
        failure: What ended it, if something did that nobody asked for.
    """

    def __init__(self, source: Source, most_frames: int = MOST_FRAMES, most_bytes: int = MOST_BYTES) -> None:
        self.source = source
        self.gaps: list[Gap] = []
        self.failure: Exception | None = None
        self._most = most_frames, most_bytes
        self._waiting: deque[FrameBatch] = deque()
        self._frames = self._bytes = 0
        self._read = self._dropped = 0
        self._lock = threading.Lock()
        self._asked: deque[tuple[str, str, Callable[[str], None]]] = deque()
        self._stopping = threading.Event()
        self._thread = threading.Thread(target=self._run, name="feed", daemon=True)

    def start(self) -> None:
        """Begin to read."""
        self._thread.start()

    @property
    def running(self) -> bool:
        """Whether more may come."""
        return self._thread.is_alive()

    @property
    def away(self) -> str:
        """Why the source is not there now; empty if it is."""
        if not self.gaps or self.gaps[-1].end is not None:
            return ""
        gap = self.gaps[-1]
        return f"{gap.why} ({gap.still})" if gap.still else gap.why

    @property
    def read(self) -> int:
        """How many frames it read."""
        return self._read

    @property
    def fill(self) -> float:
        """How full the buffer is, from 0 to 1."""
        return max(self._frames / self._most[0], self._bytes / self._most[1])

    @property
    def lost(self) -> Lost:
        """What was lost up to here."""
        return self.source.lost() + Lost(reader=self._dropped)

    def take(self) -> list[FrameBatch]:
        """What came since the last call."""
        with self._lock:
            taken = list(self._waiting)
            self._waiting.clear()
            self._frames = self._bytes = 0
        return taken

    def ask(self, name: str, value: str, answered: Callable[[str], None]) -> None:
        """Have a control worked; ``answered`` is told what was refused, or nothing, on the reading thread."""
        self._asked.append((name, value, answered))

    def stop(self, patience_s: float = 5.0) -> None:
        """Stop reading, and let go of the source."""
        self._stopping.set()
        if self._thread.is_alive():
            self._thread.join(patience_s)
        if not self._thread.is_alive():
            self.source.close()

    def _run(self) -> None:
        self._read_on()
        left = self.source.finish()
        if len(left):
            self._put(left)

    def _read_on(self) -> None:
        while not (self._stopping.is_set() or self.source.ended):
            try:
                self._work_controls()
                batch = self.source.poll(WAIT_S)
            except SourceGone as error:
                self._wait_for_return(error)
                continue
            except Exception as error:
                if not isinstance(error, KeelError | OSError):
                    logging.getLogger("keel").exception("a source failed")
                self.failure = error
                return
            if len(batch):
                self._put(batch)

    def _put(self, batch: FrameBatch) -> None:
        size = len(batch) * PER_FRAME + int(batch.offsets[-1] - batch.offsets[0])
        while self.source.can_wait and not self._has_room(batch, size) and not self._stopping.is_set():
            time.sleep(0.005)
        with self._lock:
            self._read += len(batch)
            if not self._has_room(batch, size) and not self.source.can_wait:
                self._dropped += len(batch)
                return
            self._waiting.append(batch)
            self._frames += len(batch)
            self._bytes += size

    def _has_room(self, batch: FrameBatch, size: int) -> bool:
        """An empty buffer takes whatever comes."""
        most_frames, most_bytes = self._most
        return not self._waiting or (self._frames + len(batch) <= most_frames and self._bytes + size <= most_bytes)

    def _work_controls(self) -> None:
        while self._asked:
            name, value, answered = self._asked.popleft()
            try:
                self.source.control(name, value)
                answered("")
            except ControlError as error:
                answered(str(error))

    def _wait_for_return(self, error: SourceGone) -> None:
        """Ask for the source until it is back; the time without it is a gap."""
        gap = Gap(time.time_ns(), None, error.what)
        self.gaps.append(gap)
        while not self._stopping.wait(RETURN_EVERY_S):
            try:
                self.source.reopen()
                gap.end = time.time_ns()
                return
            except SourceGone as still:
                gap.still = still.what
                if self.source.ended:
                    break
            except Exception as failure:
                self.failure = failure
                self.source.ended = True
                break
