"""The app as a whole, where something cannot be read: what is gone or was cut meanwhile is told, and ends nothing."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Literal

from textual.app import App
from textual.events import Event
from textual.message import Message

from keel.errors import KeelError
from keel.model.safe_text import plain

AGAIN_S = 15.0
"""A trouble that stays is said again after so long."""


class Careful(App[None]):
    """Tells what goes wrong in passing."""

    _trouble = ("", 0.0)

    async def on_event(self, event: Event) -> None:
        """Keys, and all else that happens to the app."""
        with self.telling():
            await super().on_event(event)

    async def _on_message(self, message: Message) -> None:
        with self.telling():
            await super()._on_message(message)

    @contextmanager
    def telling(self) -> Iterator[None]:
        """What is done in it may fail to read something: then that is told."""
        try:
            yield
        except KeelError as error:
            self.tell(str(error), 8, error=True)

    def tell(self, sentence: str, seconds: float = 4, error: bool = False) -> None:
        """Say something in passing. What it names may come from outside, so it is shown harmlessly."""
        severity: Literal["error", "information"] = "error" if error else "information"
        self.notify(plain(sentence, 300), timeout=seconds, severity=severity, markup=False)

    def tell_once(self, sentence: str) -> None:
        """Say what is wrong; not again and again while it stays so."""
        now = time.monotonic()
        if sentence != self._trouble[0] or now - self._trouble[1] > AGAIN_S:
            self.tell(sentence, 10, error=True)
            self._trouble = (sentence, now)
