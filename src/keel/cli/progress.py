"""A progress line on stderr: only in a terminal, only for what takes longer than a second."""

from __future__ import annotations

import sys
import time

WIDTH = 30


class Progress:
    """Shows how far something is."""

    def __init__(self, title: str) -> None:
        self._title = title
        self._begin = self._shown = time.monotonic()
        self._active = sys.stderr.isatty()
        self._drawn = False

    def at(self, done: int, total: int) -> None:
        """Say how far it is."""
        now = time.monotonic()
        if not self._active or now - self._begin < 1 or now - self._shown < 0.1:
            return
        self._shown = now
        self._drawn = True
        share = done / max(total, 1)
        filled = round(share * WIDTH)
        bar = "━" * filled + "─" * (WIDTH - filled)
        print(f"\r{self._title}  {bar} {share:4.0%}", end="", file=sys.stderr, flush=True)

    def end(self) -> None:
        """Take the line away."""
        if self._drawn:
            print("\r\033[K", end="", file=sys.stderr, flush=True)
