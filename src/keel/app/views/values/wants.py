"""What Values wants of the desk: courses of the signals on the screen, envelopes of those drawn, single values."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from keel.app.views.values.choices import Name

if TYPE_CHECKING:
    from keel.app.desk.making import Making
    from keel.measure.courses import Course, Envelope
    from keel.signals.book import Book
    from keel.signals.dictionary import Message, Signal

TREND_CELLS = 16


@dataclass(frozen=True, eq=False)
class ValuesShown:
    """Values' part of a picture; by signal. ``at`` are values at single moments."""

    courses: Mapping[Name, Course] = field(default_factory=dict)
    envelopes: Mapping[Name, Envelope] = field(default_factory=dict)
    at: Mapping[tuple[Name, int], float | None] = field(default_factory=dict)


class _Kept:
    """What was folded and read already."""

    def __init__(self) -> None:
        from keel.measure.courses import Courses

        self.courses = Courses()
        self.made_of: tuple[object, ...] = ()
        self.known: dict[Name, Course] = {}


@dataclass(frozen=True)
class ValuesWant:
    """What is to be read.

    Attributes:
        board: The signals whose rows are shown.
        plots: The signals that are drawn, over ``columns`` columns.
        cursors: Times in ns at which the values of the plots are wanted.
        moments: Signals, and times at which their values are wanted, too.
    """

    board: tuple[Name, ...] = ()
    plots: tuple[Name, ...] = ()
    columns: int = 2
    cursors: tuple[int, ...] = ()
    moments: tuple[tuple[Name, int], ...] = ()

    def make(self, making: Making) -> ValuesShown:
        """Values' part: what is seen first, the rest as patience goes."""
        kept, matches, lens = making.helpers.of(_Kept), making.matches, making.lens
        made_of = (making.node, making.wish.lens, matches.looked, making.snapshot.frames, making.snapshot.book)
        if made_of != kept.made_of:
            kept.made_of, kept.known = made_of, {}
        envelopes: dict[Name, Envelope] = {}
        at: dict[tuple[Name, int], float | None] = {}
        for name, message, signal in _signals(making.snapshot.book, self.plots):
            making.courtesy()
            envelopes[name] = kept.courses.envelope(matches, name[0], message, signal, lens, self.columns)
            for time in self.cursors:
                found = kept.courses.last(matches, name[0], message, signal, time)
                at[name, time] = found[0] if found else None
        for name, time in self.moments:
            for _, message, signal in _signals(making.snapshot.book, (name,)):
                found = kept.courses.last(matches, name[0], message, signal, time)
                at[name, time] = found[0] if found else None
        for name, message, signal in _signals(making.snapshot.book, self.board):
            if name in kept.known:
                continue
            if not making.patience() and kept.known:
                making.unfinished = True
                break
            making.courtesy()
            kept.known[name] = kept.courses.course(matches, name[0], message, signal, lens, TREND_CELLS)
        return ValuesShown(dict(kept.known), envelopes, at)


def _signals(book: Book, names: tuple[Name, ...]) -> Iterator[tuple[Name, Message, Signal]]:
    for name in names:
        message = book.spoken(name[0])
        signal = message.signal(name[1]) if message else None
        if message is not None and signal is not None:
            yield name, message, signal
