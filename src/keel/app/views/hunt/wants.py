"""What Hunt wants of the desk: a search, whenever the evidence is another."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from keel.app.desk.errands import Errand
from keel.app.views.hunt.search import NOTHING_SOUGHT, Result, Sought, has_evidence, search

if TYPE_CHECKING:
    from keel.app.desk.making import Making


@dataclass(frozen=True, eq=False)
class Hunted:
    """Hunt's part of a picture: the newest answer, and how the search for the next one stands."""

    sought: Sought
    result: Result | None = None
    errand: Errand[Result] = field(default_factory=Errand)

    @property
    def searching(self) -> bool:
        """Whether a search goes on."""
        return self.errand.running


class _Kept:
    """The newest answer, so that it stays while the next is looked for."""

    def __init__(self) -> None:
        self.result: Result | None = None


@dataclass(frozen=True)
class HuntWant:
    """A search; ``again`` makes it another one by the same evidence."""

    sought: Sought = NOTHING_SOUGHT
    again: int = 0

    def make(self, making: Making) -> Hunted:
        """Hunt's part. A recording that grows is not searched again for that alone."""
        manifest, wish, sought = making.snapshot.manifest, making.wish, self.sought
        kept = making.helpers.of(_Kept)
        if not making.snapshot.frames or not has_evidence(making, sought):
            kept.result = None
            return Hunted(sought)
        marks = tuple((m.time, m.of) for m in manifest.marks)
        readings = tuple(r for r in manifest.readings if not r.of)
        key = (making.folder, marks, readings, wish.lens, wish.ask, sought, self.again)
        errand = making.errands.run(Result, key, lambda stopped, show: search(making, sought, stopped, show))
        if errand.result is not None:
            kept.result = errand.result
        return Hunted(sought, kept.result, errand)
