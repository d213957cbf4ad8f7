"""A figure and what it is held against."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Figure:
    """One row of the table. ``ratio`` is figure over limit where both are times."""

    work: str
    figure: str
    limit: str
    ratio: float | None
    asked: str

    def line(self) -> str:
        """The row as text."""
        ratio = f"{self.ratio:.1f}x" if self.ratio is not None else ""
        return f"{self.work:58}{self.figure:>22}{self.limit:>34}{ratio:>8}  {self.asked}"


def best_of(runs: int, work: Callable[[], object]) -> float:
    """The shortest of some runs, in seconds: what the machine can do when nobody disturbs it."""
    best = float("inf")
    for _ in range(runs):
        begin = time.perf_counter()
        work()
        best = min(best, time.perf_counter() - begin)
    return best
