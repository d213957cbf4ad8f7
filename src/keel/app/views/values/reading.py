"""What the Values view shows, made on the desk's thread: what is seen first, the rest as patience goes."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

from keel.app.desk.picture import ValuesShown, ValuesWish
from keel.measure.courses import Course, Courses, Envelope, Name

if TYPE_CHECKING:
    from keel.ask.matches import Matches
    from keel.model.span import Span
    from keel.signals.dictionary import Message, Signal

TREND_CELLS = 16


class Valuer:
    """Keeps what was folded and read already."""

    def __init__(self, courtesy: Callable[[], None]) -> None:
        self._courtesy = courtesy
        self._courses = Courses()
        self._stamp: object = None
        self._known: dict[Name, Course] = {}

    def show(
        self,
        matches: Matches,
        lens: Span,
        messages: dict[int, Message],
        wish: ValuesWish,
        stamp: object,
        patience: Callable[[], bool],
    ) -> tuple[ValuesShown, bool]:
        """What is wanted, and whether it is complete; ``stamp`` differs when anything may differ."""
        if stamp != self._stamp:
            self._stamp = stamp
            self._known = {}
        envelopes: dict[Name, Envelope] = {}
        at: dict[tuple[Name, int], float | None] = {}
        for name, message, signal in _signals(messages, wish.plots):
            self._courtesy()
            envelopes[name] = self._courses.envelope(matches, name[0], message, signal, lens, wish.columns)
            for time in wish.cursors:
                found = self._courses.last(matches, name[0], message, signal, time)
                at[name, time] = found[0] if found else None
        for name, time in wish.moments:
            for _, message, signal in _signals(messages, (name,)):
                found = self._courses.last(matches, name[0], message, signal, time)
                at[name, time] = found[0] if found else None
        complete = True
        for name, message, signal in _signals(messages, wish.board):
            if name in self._known:
                continue
            if not patience() and self._known:
                complete = False
                break
            self._courtesy()
            self._known[name] = self._courses.course(matches, name[0], message, signal, lens, TREND_CELLS)
        return ValuesShown(dict(self._known), envelopes, at), complete


def _signals(messages: dict[int, Message], names: tuple[Name, ...]) -> Iterator[tuple[Name, Message, Signal]]:
    for name in names:
        message = messages.get(name[0])
        signal = message.signal(name[1]) if message else None
        if message is not None and signal is not None:
            yield name, message, signal
