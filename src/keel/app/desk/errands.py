"""Long jobs behind the desk: searches and comparisons. One of a kind at a time; the newest results are kept, so that
going back to one shows it at once."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Generic, TypeVar

from keel.app.shared.trouble import sentence_of

R = TypeVar("R")
MOST_KEPT = 3
Stopped = Callable[[], bool]


@dataclass(frozen=True, eq=False)
class Errand(Generic[R]):
    """How a long job stands.

    Attributes:
        result: What it gave, or has so far.
        running: Whether it goes on.
        trouble: Why it ended without a result.
        given_up: Whether a person gave it up.
    """

    result: R | None = None
    running: bool = False
    trouble: str = ""
    given_up: bool = False


@dataclass
class _Run:
    key: object
    errand: Errand[object]
    stopped: bool = False


class Errands:
    """Runs long jobs, each on a thread of its own."""

    def __init__(self, on_news: Callable[[], None]) -> None:
        """``on_news`` is called, on any thread, when something has come of a job."""
        self._on_news = on_news
        self._runs: dict[type[object], list[_Run]] = {}
        self._lock = threading.Lock()

    def run(self, kind: type[R], key: object, job: Callable[[Stopped, Callable[[R], None]], R]) -> Errand[R]:
        """How the job of a key stands; it is begun if it was not, and another of its kind is given up for it.

        Args:
            kind: What it gives.
            key: What it depends on; compared by value.
            job: Does it. It is given a function that says whether to stop, and one that takes what it has so far.
        """
        with self._lock:
            runs = self._runs.setdefault(kind, [])
            for at, run in enumerate(runs):
                if run.key == key:
                    runs.append(runs.pop(at))
                    return run.errand  # type: ignore[return-value]
            for run in runs:
                run.stopped = True
            # What was given up for another is not kept: it is begun anew when it is wanted again.
            runs[:] = [run for run in runs if not run.errand.running][-(MOST_KEPT - 1) :]
            mine = _Run(key, Errand(running=True))
            runs.append(mine)
        threading.Thread(target=self._do, args=(mine, job), name="errand", daemon=True).start()
        return mine.errand  # type: ignore[return-value]

    def _do(self, run: _Run, job: Callable[[Stopped, Callable[[R], None]], R]) -> None:
        def show(partial: R) -> None:
            if not run.stopped:
                run.errand = replace(run.errand, result=partial)
                self._on_news()

        try:
            result = job(lambda: run.stopped, show)
        except Exception as error:
            if not run.stopped:
                run.errand = replace(run.errand, running=False, trouble=sentence_of(error))
        else:
            if not run.stopped:
                run.errand = Errand(result)
        self._on_news()

    def give_up(self) -> bool:
        """Give up what is running; returns whether anything was."""
        with self._lock:
            running = [run for runs in self._runs.values() for run in runs if run.errand.running]
            for run in running:
                run.stopped = True
                run.errand = replace(run.errand, running=False, given_up=True)
        if running:
            self._on_news()
        return bool(running)

    def close(self) -> None:
        """Give up everything, and tell nobody."""
        with self._lock:
            for runs in self._runs.values():
                for run in runs:
                    run.stopped = True
