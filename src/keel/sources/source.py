"""What a source is: something frames come from while they are recorded."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from keel.bench.controls import Control
from keel.errors import ControlError, KeelError
from keel.model.bus import Bus
from keel.model.frames import FrameBatch, empty_batch
from keel.signals.dictionary import Dictionary

WAIT_S = 0.05
"""So long a source waits for frames before it says that there are none."""


class SourceGone(KeelError, OSError):
    """A source went away: unplugged, taken down. It may come back.

    Attributes:
        what: Why, in a few words.
    """

    def __init__(self, where: str, what: str) -> None:
        self.where, self.what = where, what
        super().__init__(f"{where}: {what}")


@dataclass(frozen=True)
class Lost:
    """Frames that came and are in no recording, by where they were lost."""

    kernel: int = 0
    reader: int = 0
    disk: int = 0
    source: int = 0

    @property
    def total(self) -> int:
        """All of them."""
        return self.kernel + self.reader + self.disk + self.source

    def __add__(self, other: Lost) -> Lost:
        return Lost(*(a + b for a, b in zip(self.each.values(), other.each.values(), strict=True)))

    @property
    def each(self) -> dict[str, int]:
        """How many, by place."""
        return {"kernel": self.kernel, "reader": self.reader, "disk": self.disk, "source": self.source}

    @property
    def words(self) -> str:
        """Where, in words; empty where none was lost."""
        return ", ".join(f"{count} {PLACES[place]}" for place, count in self.each.items() if count)


PLACES = {
    "kernel": "in the kernel's buffer",
    "reader": "in Keel's buffer",
    "disk": "at the disk",
    "source": "before they came here",
}


@dataclass(frozen=True)
class Panel:
    """What can be worked on a source, and how it stands."""

    controls: tuple[Control, ...] = ()
    values: Mapping[str, str] = field(default_factory=dict)


class Source(ABC):
    """Something frames come from. One file per kind; `registry` lists them.

    It is read, and worked, by one thread.

    Attributes:
        title: What it is, in a few words.
        buses: Its buses; more may turn up with their frames.
        dictionary: What is known of its frames.
        ended: Whether nothing more will come.
        controls: What can be worked on it.
        can_wait: Whether what comes waits where there is no room for it; of others it is lost.
        remarks: What a person should know of it from the start, in sentences.
    """

    title: str = ""
    controls: tuple[Control, ...] = ()
    can_wait: bool = False
    remarks: tuple[str, ...] = ()

    def __init__(self) -> None:
        self.buses: list[Bus] = []
        self.dictionary = Dictionary()
        self.ended = False

    @abstractmethod
    def poll(self, wait_s: float = 0.0) -> FrameBatch:
        """The frames since the last call, in order of arrival.

        Args:
            wait_s: How long to wait for the first, at most.

        Raises:
            SourceGone: it went away; what had come was handed over before.
        """

    def reopen(self) -> None:
        """Begin anew after it went away.

        Raises:
            SourceGone: it is not back yet.
        """
        raise SourceGone(self.title, "does not come back")

    def control(self, name: str, value: str) -> None:
        """Work something on it.

        Raises:
            ControlError: it has no such control, or refuses the value.
        """
        raise ControlError(f"{self.title} has no control {name} to set to {value}")

    def state(self) -> dict[str, Any]:
        """How its controls stand, by name; empty if it has none."""
        return {}

    def lost(self) -> Lost:
        """Frames that were lost before they could be read."""
        return Lost()

    def skipped(self) -> int:
        """What came that is no frame, or could not be read as one."""
        return 0

    def said(self) -> list[str]:
        """What a person should know of what came, in sentences; asked for at the end."""
        return []

    def finish(self) -> FrameBatch:
        """What is left when it is not read any more."""
        return empty_batch()

    def close(self) -> None:  # noqa: B027
        """Let go of it."""
