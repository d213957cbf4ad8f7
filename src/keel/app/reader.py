"""Has the recording that is looked at read by a desk, and keeps the newest picture of it."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from subprocess import Popen
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from keel.app.desk.desk import Desk
    from keel.app.desk.errands import Errands
    from keel.app.desk.making import Wish
    from keel.app.desk.picture import Picture, Trouble


class Reader:
    """Reads one recording at a time.

    Attributes:
        picture: The newest; None before there is one.
        received: When that came, by `time.monotonic`.
        recorder: What fills the recording that was opened last; None if it is filled by others, or not at all.
        why: Why there is nothing to show; empty if that is not known, or there is.
    """

    def __init__(
        self,
        on_news: Callable[[Picture | Trouble], None],
        later: Callable[[Callable[[], None]], object],
        recorder: Popen[bytes] | None = None,
    ) -> None:
        """Nothing is read yet.

        Args:
            on_news: Takes what is new, on the interface thread.
            later: Runs something on the interface thread.
            recorder: What fills the first recording.
        """
        self._on_news, self._later, self.recorder = on_news, later, recorder
        self._desk: Desk | None = None
        self._errands: Errands | None = None
        self.picture: Picture | None = None
        self.received = 0.0
        self.why = ""

    @property
    def folder(self) -> Path | None:
        """The recording that is read."""
        return self._desk.folder if self._desk is not None else None

    def open(self, folder: Path, wish: Wish) -> None:
        """Read another recording."""
        from keel.app.desk.desk import Desk
        from keel.app.desk.errands import Errands

        if self._errands is None:
            self._errands = Errands(self._wake)
        if self._desk is not None:
            self._desk.close()
        self.picture, self.why = None, ""

        def deliver(news: Picture | Trouble) -> None:
            self._later(lambda: self._receive(desk, news))

        desk = self._desk = Desk(folder, deliver, self._errands)
        desk.wish(wish)
        desk.start()

    def _wake(self) -> None:
        if self._desk is not None:
            self._desk.wake()

    def _receive(self, desk: Desk, news: Picture | Trouble) -> None:
        from keel.app.desk.picture import Picture

        if desk is not self._desk:
            # Of a recording that was left meanwhile.
            return
        if isinstance(news, Picture):
            self.picture, self.received, self.why = news, time.monotonic(), ""
        elif news.ended:
            self.why = self.last_words() or news.sentence
        self._on_news(news)

    def last_words(self) -> str:
        """What the recorder that was to fill the recording said when it ended, if it ended with an error."""
        recorder = self.recorder
        if recorder is None or recorder.poll() in (None, 0) or recorder.stderr is None:
            return ""
        self.recorder = None
        return recorder.stderr.read().decode("utf-8", "replace").strip()

    def wish(self, wish: Wish) -> None:
        """What is to be shown from now on."""
        if self._desk is not None:
            self._desk.wish(wish)

    def submit(self, job: Callable[[], None]) -> None:
        """Do a job on the desk's thread."""
        if self._desk is not None:
            self._desk.do(job)

    def give_way(self) -> None:
        """A key was pressed: let it be answered first."""
        if self._desk is not None:
            self._desk.give_way()

    def give_up(self) -> bool:
        """Give up what is searched or compared; returns whether anything was."""
        return self._errands is not None and self._errands.give_up()

    def close(self) -> None:
        """Stop reading; edits that were asked for are written first."""
        if self._errands is not None:
            self._errands.close()
        if self._desk is not None:
            self._desk.close()
            self._desk.wait(5)
