"""The stage: where the open view is painted, and the mouse answered for it."""

from __future__ import annotations

from collections.abc import Callable

from textual import events

from keel.app.frame.helm import Helm, Here
from keel.app.frame.view import View
from keel.app.paint.canvas import Line, Sheet
from keel.app.paint.nothing import opening_lines

WHEEL = 3


class Stage(Sheet):
    """Shows one view at a time."""

    def __init__(self, helm: Helm, on_room: Callable[[], None]) -> None:
        """``on_room`` is called when there is another room to fill."""
        super().__init__(id="stage")
        self._helm, self._on_room = helm, on_room
        self._view: View | None = None
        self._here: Here | None = None
        self._why = ""

    def show(self, view: View | None, here: Here | None, why: str = "") -> None:
        """Show a view; ``why`` says why there is nothing to show, if so."""
        self._view, self._here, self._why = view, here, why
        self.repaint()

    def paint(self, width: int, height: int) -> list[Line]:
        """The view, or what is waited for."""
        if self._view is None or self._here is None:
            return opening_lines(self.palette, width, self._why)
        here = Here(self._here.state, self._here.picture, self.palette, width, height)
        lines = self._view.paint(here)
        if here.picture.wish.ask != here.state.ask or here.picture.wish.lens != here.state.lens:
            # An answer to what was asked before; the new one is under way.
            for line in lines:
                line.fade(self.palette.style("dim"))
        return lines

    def on_resize(self) -> None:
        """What is wanted of the desk depends on the room; rows of the tape come and go, whatever the window does."""
        self.call_after_refresh(self._on_room)

    def on_click(self, event: events.Click) -> None:
        """The view answers it."""
        if self._view is not None and self._here is not None:
            self._view.click(self._helm, event.x, event.y, event.chain == 2)

    def on_mouse_scroll_down(self, event: events.MouseScrollDown) -> None:
        """The view moves."""
        if self._view is not None and self._here is not None:
            self._view.wheel(self._helm, WHEEL)

    def on_mouse_scroll_up(self, event: events.MouseScrollUp) -> None:
        """The view moves."""
        if self._view is not None and self._here is not None:
            self._view.wheel(self._helm, -WHEEL)
