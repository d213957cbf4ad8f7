"""The app as a whole, where something goes wrong: it is told, and ends nothing."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Literal, TypeVar

from textual.app import App
from textual.message import Message
from textual.worker import get_current_worker

from keel.app.shared.trouble import sentence_of
from keel.model.safe_text import plain

R = TypeVar("R")
Stopped = Callable[[], bool]
BEHIND = "behind"
AGAIN_S = 15.0
"""A trouble that stays is said again after so long."""


class Careful(App[None]):
    """Tells what goes wrong in passing."""

    def __init__(self) -> None:
        super().__init__()
        self._trouble = ("", 0.0)
        self._told: set[str] = set()

    async def _on_message(self, message: Message) -> None:
        with self.telling():
            await super()._on_message(message)

    @contextmanager
    def telling(self) -> Iterator[None]:
        """What is done in it may go wrong: then that is told."""
        try:
            yield
        except Exception as error:
            self.tell(sentence_of(error), 8, error=True)

    def behind(
        self, job: Callable[[Stopped], R], then: Callable[[R], None], failed: Callable[[], None] = lambda: None
    ) -> None:
        """Do a job on a thread of its own, and something with what it gives on this one; what goes wrong is told."""

        def tell(error: Exception) -> None:
            self.tell(sentence_of(error), 8, error=True)
            failed()

        def take(result: R) -> None:
            with self.telling():
                then(result)

        def work() -> None:
            worker = get_current_worker()
            try:
                result = job(lambda: worker.is_cancelled)
            except Exception as error:
                self.call_from_thread(tell, error)
            else:
                if not worker.is_cancelled:
                    self.call_from_thread(take, result)

        self.run_worker(work, thread=True, group=BEHIND)

    def stop_work(self) -> bool:
        """Give up what is done on other threads; returns whether anything was."""
        return bool(self.workers.cancel_group(self, BEHIND))

    def tell(self, sentence: str, seconds: float = 4, error: bool = False) -> None:
        """Say something in passing. What it names may come from outside, so it is shown harmlessly."""
        severity: Literal["error", "information"] = "error" if error else "information"
        self.notify(plain(sentence, 300), timeout=seconds, severity=severity, markup=False)

    def tell_new(self, sentence: str, error: bool) -> None:
        """Say what was not said before."""
        if sentence not in self._told:
            self._told.add(sentence)
            self.tell(sentence, 8, error=error)

    def tell_once(self, sentence: str) -> None:
        """Say what is wrong; not again and again while it stays so."""
        now = time.monotonic()
        if sentence != self._trouble[0] or now - self._trouble[1] > AGAIN_S:
            self.tell(sentence, 10, error=True)
            self._trouble = (sentence, now)

    async def leave_when_done(self) -> None:
        """End, once what is being written is written."""
        busy = [worker for worker in self.workers if worker.group == BEHIND and worker.is_running]
        if busy:
            self.tell("leaving as soon as what is being written is written", 30)
            await self.workers.wait_for_complete(busy)
        self.exit()
