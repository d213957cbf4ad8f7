"""The desk: a thread that reads the recording, runs the ask and the measures, and hands finished pictures to the
views. The interface thread never waits for it."""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from keel.app.desk.picture import Picture, Wish
from keel.errors import KeelError, NotARecording, RecordingDamaged

if TYPE_CHECKING:
    from keel.store.recording import Recording

TICK_S = 0.25
FIRST_PATIENCE_S, PATIENCE_S = 0.05, 0.2
"""So long an ask looks for matches before what it found is shown: at first, and from then on."""
COURTESY_S = 0.05
"""So long the desk rests after a key, so that the interface has the interpreter to itself while it answers."""
START_PATIENCE_S = 20.0
CHECK_AFTER_S, CHECK_REST_S = 3.0, 0.15
"""The checksums of a closed recording are checked after a while, with a rest after each segment."""


Deliver = Callable[[Picture | KeelError], None]


class Desk:
    """Reads one recording and makes pictures of it until it is closed."""

    def __init__(self, folder: Path, deliver: Deliver) -> None:
        self.folder = folder
        self._deliver = deliver
        self._wish: Wish | None = None
        self._jobs: queue.SimpleQueue[Callable[[], None]] = queue.SimpleQueue()
        self._wake = threading.Event()
        self._closed = False
        self._quiet_until = 0.0
        self._thread = threading.Thread(target=self._run, name="desk", daemon=True)

    def start(self) -> None:
        """Begin reading."""
        self._thread.start()

    def close(self) -> None:
        """Stop; waits for what is being done."""
        self._closed = True
        self._wake.set()
        if self._thread.is_alive() and threading.current_thread() is not self._thread:
            self._thread.join(timeout=5)

    def wish(self, wish: Wish) -> None:
        """What the views want from now on; an unfinished picture of an older wish is not delivered twice."""
        self._wish = wish
        self._wake.set()

    def give_way(self) -> None:
        """A key was pressed: let the interface answer it first."""
        self._quiet_until = time.monotonic() + COURTESY_S

    def _courtesy(self) -> None:
        rest = self._quiet_until - time.monotonic()
        if rest > 0:
            time.sleep(rest)

    def do(self, job: Callable[[], None]) -> None:
        """Do something to the recording on the desk's thread, such as adding a mark."""
        self._jobs.put(job)
        self._wake.set()

    def _run(self) -> None:
        recording = self._open()
        if recording is None:
            return
        from keel.app.desk.maker import Maker

        maker = Maker(recording, self._courtesy)
        shown: tuple[object, ...] | None = None
        warmed = False
        while not self._closed:
            begin = time.monotonic()
            self._wake.clear()
            delivered = False
            try:
                while not self._jobs.empty():
                    self._jobs.get_nowait()()
                changed = recording.refresh()
                wish = self._wish
                snapshot = recording.snapshot()
                stamp = (wish, snapshot.live, snapshot.frames)
                if wish is not None and (changed or stamp != shown or snapshot.live or maker.unfinished):
                    self._deliver(maker.make(wish, snapshot, self._patience(wish, begin, stamp != shown)))
                    shown, delivered = stamp, True
            except KeelError as error:
                self._deliver(error)
            if delivered and not warmed:
                warmed = True
                threading.Thread(target=warm_up, name="warm up", daemon=True).start()
                if not snapshot.live:
                    threading.Thread(target=self._check, name="check", daemon=True).start()
            # At least as long a rest as the work took: the interface comes first. What is unfinished goes on soon.
            took = time.monotonic() - begin
            self._wake.wait(0.02 if maker.unfinished else max(TICK_S - took, min(took, 1.0)))

    def _check(self) -> None:
        """Compare every byte with its checksum, behind everything else, and say what is damaged."""
        from keel.store.verify import verify

        def breathe(*_: int) -> None:
            # At most half of one processor, and none of it while a key is answered.
            time.sleep(CHECK_REST_S)
            self._courtesy()

        time.sleep(CHECK_AFTER_S)
        try:
            for finding in verify(self.folder, breathe, lambda: self._closed):
                hint = "keel verify --repair keeps what is whole"
                self._deliver(RecordingDamaged(finding.file, f"{finding.what}; {hint}"))
        except KeelError as error:
            self._deliver(error)

    def _patience(self, wish: Wish, begin: float, first: bool) -> Callable[[], bool]:
        """Whether to look at more: not for long, and not for a wish that is out of date."""
        end = begin + (FIRST_PATIENCE_S if first else PATIENCE_S)
        return lambda: not self._closed and self._wish is wish and time.monotonic() < end

    def _open(self) -> Recording | None:
        from keel.store.recording import Recording

        begin = time.monotonic()
        while not self._closed:
            try:
                return Recording(self.folder)
            except NotARecording as error:
                # The recorder may still be starting.
                if time.monotonic() - begin > START_PATIENCE_S:
                    self._deliver(error)
                    return None
                time.sleep(0.05)
            except KeelError as error:
                self._deliver(error)
                return None
        return None


def warm_up() -> None:
    """Load the compiled parts, and the grammar of the ask; until they are there, the same is done more slowly.

    Compiled code is loaded for the types it is called with: here those of rows in memory, and of a segment's.
    """
    import numpy as np

    import keel.measure.flips
    import keel.measure.sliding  # noqa: F401
    from keel.ask.language import parse
    from keel.ask.scanning import find_pattern
    from keel.model.frames import COLUMNS, FrameBatch, batch_of
    from keel.store.summing import summarise

    parse("fault or id:1A0")
    one = batch_of(np.arange(4), 1, [b"ab"] * 4)
    columns = {name: getattr(one, name) for name in COLUMNS}
    mapped = {name: np.frombuffer(bytes(column), column.dtype) for name, column in columns.items()}
    offsets: Any = np.frombuffer(bytes(one.offsets.astype(np.int32)), np.int32)
    data = np.frombuffer(bytes(one.data), np.uint8)
    keys, low, high = np.ones(1, np.uint64), np.zeros(1, np.int64), np.full(1, 4)
    for batch in (one, FrameBatch(**mapped, offsets=offsets, data=data)):
        find_pattern(batch.data, batch.offsets, (None, 0x62))
        summarise(batch, keys, low, high)
        summarise(batch, keys, low, high, np.ones(4, np.bool_))
