"""What all windows over the views have in common: their look, and that no key typed while one opens is lost."""

from __future__ import annotations

from typing import TypeVar

from textual import events
from textual.app import App
from textual.binding import Binding
from textual.screen import ModalScreen
from textual.widget import Widget

R = TypeVar("R")
CLOSING_S = 0.2
"""So long a window may take to close."""
CLOSING = ("enter", "escape")


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

    def __init__(self) -> None:
        super().__init__()
        self.is_ready = False
        self._kept: list[events.Key] = []

    def keep(self, key: events.Key) -> None:
        """A key came before the window can take it: it takes it as soon as it can."""
        self._kept.append(key)

    def first(self) -> Widget | None:
        """What has the keys at first."""
        return None

    def on_mount(self) -> None:
        """Take keys once everything is there."""
        self.call_after_refresh(self.make_ready)

    def make_ready(self) -> None:
        """Take keys from now on, those that came before first."""
        self.set_focus(self.first())
        self._go_on()

    def pause(self) -> None:
        """A key was given that may close the window: what comes after it is for whatever has the keys then."""
        self.is_ready = False
        self.set_timer(CLOSING_S, self._go_on)

    def on_unmount(self) -> None:
        """It is closed: keys that came meanwhile are for what lies under it."""
        self._go_on()

    def _go_on(self) -> None:
        self.is_ready = True
        if self._kept:
            # They are made anew in the app's name: what a screen sends does not rise above it.
            self.app.call_later(self._replay, self.app)

    def _replay(self, app: App[object]) -> None:
        kept, self._kept = self._kept, []
        for key in kept:
            app.post_message(events.Key(key.key, key.character))

    def action_leave(self) -> None:
        """Give nothing back."""
        self.dismiss(None)
