"""The app as a whole, where keys come in: each goes to what has the keys by then, in their order, and none is lost."""

from __future__ import annotations

from textual import events

from keel.app.careful import Careful
from keel.app.dialogs.window import Window

CLOSING = ("enter", "escape")
"""What may close a window."""


class InOrder(Careful):
    """Keeps keys while a window opens or closes, for as long as nobody can take them."""

    def __init__(self) -> None:
        super().__init__()
        self._kept: list[events.Key] = []

    async def on_event(self, event: events.Event) -> None:
        """A key waits behind those that came before it."""
        with self.telling():
            if not isinstance(event, events.Key) or event.is_forwarded:
                await super().on_event(event)
            elif self._kept or not self._is_ready():
                self._kept.append(event)
            else:
                await self._give(event)

    async def on_window_ready(self) -> None:
        """Give out what was kept."""
        while self._kept and self._is_ready():
            key = self._kept.pop(0)
            # Made anew: what was sent to a screen that has closed does not rise from the one under it.
            await self._give(events.Key(key.key, key.character))

    def _is_ready(self) -> bool:
        return not isinstance(self.screen, Window) or self.screen.is_ready

    async def _give(self, key: events.Key) -> None:
        if isinstance(self.screen, Window) and key.key in CLOSING:
            self.screen.pause()
        if len(self.screen_stack) > 1 or not await self.take(key):
            await super().on_event(key)

    async def take(self, key: events.Key) -> bool:
        """Do what a key does where no window is open; returns whether it does anything."""
        return False
