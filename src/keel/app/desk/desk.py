"""The desk: a thread that reads the recording, runs the ask and the measures, and hands finished pictures to the
views. The interface thread never waits for it.

Whatever goes wrong here is caught once, said in a sentence, and the desk goes on.
"""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from keel.app.desk.errands import Errands
from keel.app.desk.making import Wish
from keel.app.desk.picture import Picture, Trouble
from keel.app.shared.trouble import sentence_of
from keel.errors import KeelError, NotARecording

if TYPE_CHECKING:
    from keel.app.desk.maker import Maker
    from keel.store.recording import Recording, Snapshot

TICK_S = 0.25
FIRST_PATIENCE_S, PATIENCE_S = 0.05, 0.2
"""So long an ask looks for matches before what it found is shown: at first, and from then on."""
COURTESY_S = 0.05
"""So long the desk rests after a key, so that the interface has the interpreter to itself while it answers."""
START_PATIENCE_S = 20.0
"""So long a recorder may take to begin, before it is said that there is no recording."""
LOOK_AGAIN_S = 1.0
CHECK_AFTER_S, CHECK_REST_S = 3.0, 0.15
"""The checksums of a closed recording are checked after a while, with a rest after each segment."""


Deliver = Callable[[Picture | Trouble], None]


class Desk:
    """Reads one recording and makes pictures of it until it is closed."""

    def __init__(self, folder: Path, deliver: Deliver, errands: Errands | None = None) -> None:
        self.folder = folder
        self._deliver = deliver
        self._errands = errands or Errands(self.wake)
        self._wish: Wish | None = None
        self._jobs: queue.SimpleQueue[Callable[[], None]] = queue.SimpleQueue()
        self._wake = threading.Event()
        self._news = False
        self._closed = False
        self._quiet_until = 0.0
        self._shown: object = None
        self._thread = threading.Thread(target=self._run, name="desk", daemon=True)

    def start(self) -> None:
        """Begin reading."""
        self._thread.start()

    def close(self) -> None:
        """Stop; what is being done is finished first, and jobs that were asked for are done."""
        self._closed = True
        self._wake.set()

    def wait(self, seconds: float) -> None:
        """Wait until it has stopped."""
        if self._thread.is_alive() and threading.current_thread() is not self._thread:
            self._thread.join(timeout=seconds)

    def wish(self, wish: Wish) -> None:
        """What the views want from now on; an unfinished picture of an older wish is not delivered twice."""
        if wish != self._wish:
            self._wish = wish
            self._wake.set()

    def wake(self) -> None:
        """Something has come of an errand: make a picture of it."""
        self._news = True
        self._wake.set()

    def give_way(self) -> None:
        """A key was pressed: let the interface answer it first."""
        self._quiet_until = time.monotonic() + COURTESY_S

    def _courtesy(self) -> None:
        rest = self._quiet_until - time.monotonic()
        if rest > 0:
            time.sleep(rest)

    def do(self, job: Callable[[], None]) -> None:
        """Do something to a recording on the desk's thread, such as adding a mark."""
        self._jobs.put(job)
        self._wake.set()

    @contextmanager
    def _telling(self) -> Iterator[None]:
        """Where everything that goes wrong behind the views is caught."""
        try:
            yield
        except Exception as error:
            self._deliver(Trouble(sentence_of(error)))

    def _run(self) -> None:
        recording = self._open()
        maker: Maker | None = None
        while not self._closed:
            begin = time.monotonic()
            self._wake.clear()
            self._do_jobs()
            if recording is not None:
                with self._telling():
                    if maker is None:
                        from keel.app.desk.maker import Maker

                        maker = Maker(recording, self._courtesy, self._errands)
                    self._look(recording, maker, begin)
            # At least as long a rest as the work took: the interface comes first. What is unfinished goes on soon.
            took = time.monotonic() - begin
            unfinished = maker is not None and maker.unfinished
            self._wake.wait(0.02 if unfinished else max(TICK_S - took, min(took, 1.0)))
        self._do_jobs()

    def _do_jobs(self) -> None:
        while not self._jobs.empty():
            with self._telling():
                self._jobs.get_nowait()()

    def _look(self, recording: Recording, maker: Maker, begin: float) -> None:
        """Take in what was added, and deliver a picture if it would differ from the last."""
        gone = ""
        try:
            recording.refresh()
        except KeelError as error:
            # Its folder was renamed or removed: what was read before stays on the screen.
            gone = str(error)
        wish, snapshot = self._wish, recording.snapshot()
        if wish is None:
            return
        news, self._news = self._news, False
        first = self._shown is None or (wish, snapshot.live, snapshot.frames) != self._shown[:3]  # type: ignore[index]
        stamp = (wish, snapshot.live, snapshot.frames, snapshot.manifest, snapshot.problems, gone)
        if news or stamp != self._shown or snapshot.live or maker.unfinished:
            was_shown, self._shown = self._shown is not None, stamp
            self._deliver(maker.make(wish, snapshot, self._patience(wish, begin, first), gone))
            if not was_shown:
                threading.Thread(target=self._behind, args=(snapshot,), name="behind", daemon=True).start()

    def _behind(self, snapshot: Snapshot) -> None:
        """What is done after the first picture: load compiled parts, check a closed recording's bytes."""
        from keel.app.desk.warm_up import warm_up

        with self._telling():
            warm_up()
        if not snapshot.live:
            with self._telling():
                self._check()

    def _check(self) -> None:
        """Compare every byte with its checksum, behind everything else, and say what is damaged."""
        from keel.store.verify import verify

        def breathe(*_: int) -> None:
            # At most half of one processor, and none of it while a key is answered.
            time.sleep(CHECK_REST_S)
            self._courtesy()

        time.sleep(CHECK_AFTER_S)
        for finding in verify(self.folder, breathe, lambda: self._closed):
            hint = "keel verify --repair keeps what is whole"
            self._deliver(Trouble(f"{self.folder / finding.file}: {finding.what}; {hint}", damaged=True))

    def _patience(self, wish: Wish, begin: float, first: bool) -> Callable[[], bool]:
        """Whether to look at more: not for long, and not for a wish that is out of date."""
        end = begin + (FIRST_PATIENCE_S if first else PATIENCE_S)
        return lambda: not self._closed and self._wish is wish and time.monotonic() < end

    def _open(self) -> Recording | None:
        """The recording; waits for it as long as there is none. None if the desk was closed meanwhile."""
        from keel.store.recording import Recording

        begin = time.monotonic()
        said = ""
        while not self._closed:
            try:
                return Recording(self.folder)
            except NotARecording as error:
                # The recorder may still be starting.
                if not said and time.monotonic() - begin > START_PATIENCE_S:
                    said = str(error)
                    self._deliver(Trouble(said, ended=True))
            except Exception as error:
                sentence = sentence_of(error)
                if sentence != said:
                    said = sentence
                    self._deliver(Trouble(said, ended=True))
            self._do_jobs()
            self._wake.wait(0.05 if not said else LOOK_AGAIN_S)
        return None
