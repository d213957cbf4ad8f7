"""Progress on stderr: only in a terminal, only for what takes longer than a second."""

from __future__ import annotations

import sys
import time
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from rich.progress import Progress as Bar

PATIENCE_S = 1.0


class Progress:
    """Shows how far something is."""

    def __init__(self, title: str) -> None:
        self._title = title
        self._begin = time.monotonic()
        self._active = sys.stderr.isatty()
        self._bar: Bar | None = None

    def at(self, done: int, total: int) -> None:
        """Say how far it is."""
        if not self._active or time.monotonic() - self._begin < PATIENCE_S:
            return
        if self._bar is None:
            from rich.console import Console
            from rich.progress import BarColumn, TaskProgressColumn, TextColumn, TimeRemainingColumn
            from rich.progress import Progress as Made

            parts = (TextColumn("{task.description}", markup=False), BarColumn(), TaskProgressColumn())
            self._bar = Made(*parts, TimeRemainingColumn(), console=Console(stderr=True), transient=True)
            self._bar.add_task(self._title)
            self._bar.start()
        self._bar.update(self._bar.task_ids[0], completed=done, total=max(total, 1))

    def end(self) -> None:
        """Take it away."""
        if self._bar is not None:
            self._bar.stop()
