"""What all windows over the views have in common: their look, and that no key typed while one opens is lost."""

from __future__ import annotations

from typing import TypeVar

from textual import events
from textual.binding import Binding
from textual.screen import ModalScreen
from textual.widget import Widget

R = TypeVar("R")


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
        self.is_ready = True
        kept, self._kept = self._kept, []
        for key in kept:
            self.app.post_message(events.Key(key.key, key.character))

    def action_leave(self) -> None:
        """Give nothing back."""
        self.dismiss(None)
