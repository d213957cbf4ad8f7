"""Spans of time, and the marks a person flags."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from keel.model.extensible import Extensible
from keel.model.units import NS_PER_S

if TYPE_CHECKING:
    from keel.model.frames import Times


@dataclass(frozen=True, order=True)
class Span:
    """A half-open span ``start <= t < end`` in nanoseconds. Used for the lens and for hunting."""

    start: int
    end: int

    @property
    def length(self) -> int:
        """Length in nanoseconds."""
        return self.end - self.start

    @property
    def seconds(self) -> float:
        """Length in seconds."""
        return (self.end - self.start) / NS_PER_S

    def edges(self, cells: int) -> Times:
        """The bounds of so many equal stretches, shape (cells + 1,), exact: times since 1970 in ns exceed what
        a float holds."""
        import numpy as np

        whole, rest = divmod(self.end - self.start, cells)
        steps = np.arange(cells + 1, dtype=np.int64)
        return self.start + whole * steps + rest * steps // cells

    def shifted(self, by: int) -> Span:
        """The span moved by so many nanoseconds."""
        return Span(self.start + by, self.end + by)

    def scaled(self, factor: float) -> Span:
        """The span grown or shrunk about its middle; never shorter than a microsecond."""
        middle = (self.start + self.end) // 2
        half = max(int((self.end - self.start) * factor / 2), 500)
        return Span(middle - half, middle + half)

    def clipped(self, to: Span) -> Span:
        """The span moved, and cut if need be, so that it lies inside ``to``."""
        length = min(self.end - self.start, to.end - to.start)
        start = min(max(self.start, to.start), to.end - length)
        return Span(start, start + length)


def moved(span: Span, change: str, whole: Span) -> Span | None:
    """A lens moved by a quarter (``earlier``, ``later``), halved (``in``) or doubled (``out``); None for all of it."""
    step = (span.end - span.start) // 4
    new = {
        "earlier": span.shifted(-step),
        "later": span.shifted(step),
        "in": span.scaled(0.5),
        "out": span.scaled(2.0),
    }[change].clipped(whole)
    return None if new.end - new.start >= whole.end - whole.start else new


@dataclass(frozen=True)
class Mark(Extensible):
    """A moment that a person flagged: "I pressed it here".

    ``of`` is the try it belongs to: what was operated. Marks of no named try are one of their own.
    """

    number: int
    time: int
    note: str = ""
    of: str = ""


def tries_of(marks: list[Mark]) -> list[str]:
    """The names of the tries that marks belong to, the last one last."""
    return list(dict.fromkeys(mark.of for mark in sorted(marks, key=lambda m: m.number, reverse=True)))[::-1]


def of_try(marks: list[Mark], name: str | None = None) -> list[Mark]:
    """The marks of one try; of the last one without a name."""
    names = tries_of(marks)
    chosen = name if name is not None else names[-1] if names else ""
    return [mark for mark in marks if mark.of == chosen]


def pair_up(marks: list[Mark]) -> list[Span]:
    """Spans from marks set before and after something was done; a last one without a partner is left out."""
    times = sorted(mark.time for mark in marks)
    return [Span(a, b) for a, b in zip(times[::2], times[1::2], strict=False)]


def around(marks: list[Mark], before_s: float = 0.5, after_s: float = 2.0) -> list[Span]:
    """A span about each mark, for marks that were set once each time something was done."""
    return [Span(m.time - int(before_s * NS_PER_S), m.time + int(after_s * NS_PER_S)) for m in marks]


def with_margin(start: int, end: int) -> Span:
    """Something from start to end, and some of what is on both sides of it."""
    margin = max((end - start) // 12, 1000)
    return Span(start - margin, end + margin)
