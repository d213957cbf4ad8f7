"""The key line: the keys that do something here, now."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from textual import events

from keel.app.frame.action import Action
from keel.app.paint.canvas import Line, Sheet

TYPING = (("enter", "search"), ("esc", "leave as it was"), ("tab", "complete"), ("↑ ↓", "asks entered before"))


class KeyLine(Sheet):
    """The keys that do something here, now."""

    DEFAULT_CSS = "KeyLine { height: 1; }"

    def __init__(self, perform: Callable[[Action], None]) -> None:
        super().__init__(id="keys")
        self._perform = perform
        self._actions: Sequence[Action] = ()
        self._typing = False
        self._places: list[tuple[int, int, Action]] = []

    def show(self, actions: Sequence[Action], typing: bool) -> None:
        """Say which keys count now."""
        if (actions, typing) != (self._actions, self._typing):
            self._actions, self._typing = actions, typing
            self.repaint()

    def paint(self, width: int, height: int) -> list[Line]:
        """The keys, as many as fit; the guide always."""
        style = self.palette.style
        line = self.line(width, "panel")
        self._places = []
        at = 1
        if self._typing:
            for key, word in TYPING:
                at = line.put(at, key, style("brass", "panel", True)) + 1
                at = line.put(at, word, style("dim", "panel")) + 3
            return [line]
        shown = [a for a in self._actions if a.word]
        while shown and 1 + sum(len(a.shown) + len(a.word) + 4 for a in shown) > width:
            droppable = [a for a in shown if not a.stays]
            if not droppable:
                break
            shown.remove(droppable[-1])
        for action in shown:
            start = at
            at = line.put(at, action.shown, style("brass", "panel", True)) + 1
            at = line.put(at, action.word, style("dim", "panel")) + 3
            self._places.append((start, at - 2, action))
        return [line]

    def on_click(self, event: events.Click) -> None:
        """Do what was clicked."""
        for start, end, action in self._places:
            if start <= event.x < end:
                self._perform(action)
