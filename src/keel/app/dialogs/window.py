"""What all windows over the views have in common: their look, and that no key typed while one opens is lost."""

from __future__ import annotations

from typing import TypeVar

from textual.await_complete import AwaitComplete
from textual.binding import Binding
from textual.message import Message
from textual.screen import ModalScreen
from textual.widget import Widget

R = TypeVar("R")
PAUSE_S = 0.5
"""A window that has not closed after so long stays open."""


class Window(ModalScreen[R | None]):
    """A window. Gives something back, or None if the person leaves it."""

    DEFAULT_CSS = """
    Window { align: center middle; background: $background 60%; }
    Window Vertical { width: 92; max-width: 96%; height: auto; max-height: 84%; background: $panel; padding: 1 3; }
    Window OptionList { height: auto; max-height: 20; border: none; background: $panel; padding: 0; margin: 1 0; }
    Window OptionList:focus { border: none; }
    Window Input { border: none; height: 1; padding: 0; background: $background; margin: 1 0 0 0; }
    Window .dim { color: #6b7a88; }
    """
    BINDINGS = [Binding("escape", "leave", show=False)]

    class Ready(Message):
        """Keys can be taken again: by the window, or by what lies under it once it is closed."""

    def __init__(self) -> None:
        super().__init__()
        self.is_ready = False

    def first(self) -> Widget | None:
        """What has the keys at first."""
        return None

    def on_mount(self) -> None:
        """Take keys once everything is there."""
        self.call_after_refresh(self.make_ready)

    def make_ready(self) -> None:
        """Take keys from now on, those that came before first."""
        self.set_focus(self.first())
        self._take_keys()

    def pause(self) -> None:
        """A key was given that may close the window: what comes after it is for whatever has the keys then."""
        self.is_ready = False
        self.set_timer(PAUSE_S, self._take_keys)

    def dismiss(self, result: R | None = None) -> AwaitComplete:
        """Close; keys that come from now on are for what lies under it."""
        closing = super().dismiss(result)
        self._take_keys()
        return closing

    def _take_keys(self) -> None:
        self.is_ready = True
        self.app.post_message(self.Ready())

    def action_leave(self) -> None:
        """Give nothing back."""
        self.dismiss(None)
