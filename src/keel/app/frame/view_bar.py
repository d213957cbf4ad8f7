"""The row of view names."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from textual import events

from keel.app.frame.view import Door
from keel.app.paint.canvas import Line, Sheet


class ViewBar(Sheet):
    """The names of the views, one row."""

    DEFAULT_CSS = "ViewBar { height: 1; }"

    def __init__(self, doors: Sequence[Door], go: Callable[[str], None]) -> None:
        super().__init__(id="views")
        self._doors, self._go = doors, go
        self.view = ""
        self._places: list[tuple[int, int, str]] = []

    def show(self, view: str) -> None:
        """Say which view is open."""
        self.view = view
        self.repaint()

    def paint(self, width: int, height: int) -> list[Line]:
        """The row."""
        style = self.palette.style
        line = self.line(width, "panel")
        at, self._places = 1, []
        for door in self._doors:
            start = at
            if door.name == self.view:
                at = line.put(at, f" {door.key} {door.title} ", style("ink", "brass", True)) + 1
            else:
                at = line.put(at, f" {door.key}", style("brass", "panel"))
                at = line.put(at, f" {door.title} ", style("dim", "panel")) + 1
            self._places.append((start, at, door.name))
        return [line]

    def on_click(self, event: events.Click) -> None:
        """Open the clicked view."""
        for start, end, view in self._places:
            if start <= event.x < end:
                self._go(view)
