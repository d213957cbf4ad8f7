"""What a source is."""

from __future__ import annotations

from typing import Any, Protocol

from keel.model.bus import Bus
from keel.model.frames import FrameBatch
from keel.signals.dictionary import Dictionary


class Source(Protocol):
    """Something frames come from. One file per source; `registry` lists them."""

    title: str
    buses: list[Bus]
    dictionary: Dictionary
    ended: bool
    """Whether nothing more will come."""

    def poll(self) -> FrameBatch:
        """The frames since the last call, in order of arrival; does not wait."""

    def control(self, name: str, value: str) -> None:
        """Work something on it.

        Raises:
            ControlError: it has no such control, or refuses the value.
        """

    def state(self) -> dict[str, Any]:
        """What can be worked and how it stands, by name; empty if nothing can."""

    def lost(self) -> int:
        """Frames that were lost before they could be read."""

    def skipped(self) -> int:
        """What came that is no frame, or could not be read as one."""

    def said(self) -> list[str]:
        """What a person should know of what came, in sentences; asked for at the end."""

    def close(self) -> None:
        """Let go of it."""
