"""What Compare wants of the desk: a comparison, whenever the task or the ask is another."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from keel.app.desk.errands import Errand
from keel.app.views.compare.choices import Task
from keel.compare.differences import Comparison

if TYPE_CHECKING:
    from keel.app.desk.making import Making


@dataclass(frozen=True, eq=False)
class Compared:
    """Compare's part of a picture: the newest comparison, and how the next one stands."""

    found: Comparison | None = None
    errand: Errand[Comparison] = field(default_factory=Errand)


class _Kept:
    """The newest comparison, so that it stays while the next is made."""

    def __init__(self) -> None:
        self.found: Comparison | None = None


@dataclass(frozen=True)
class CompareWant:
    """A comparison; ``again`` makes it another one of the same task."""

    task: Task | None = None
    again: int = 0

    def make(self, making: Making) -> Compared:
        """Compare's part."""
        from keel.app.views.compare.run import run

        kept, task = making.helpers.of(_Kept), self.task
        if task is None:
            kept.found = None
            return Compared()
        key = (making.folder, task, making.wish.ask, self.again)
        snapshot, ask = making.snapshot, making.wish.ask
        errand = making.errands.run(Comparison, key, lambda stopped, _: run(snapshot, task, ask, stopped))
        if errand.result is not None:
            kept.found = errand.result
        return Compared(kept.found, errand)
