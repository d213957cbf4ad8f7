"""What every reader of a foreign format gives: batches of frames, and an account of what it skipped."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

from keel.model.frames import FrameBatch

Progress = Callable[[int, int], None]
"""Called with bytes done and bytes in all."""


@dataclass
class Account:
    """What was read and what was not.

    Attributes:
        frames: Frames read.
        skipped: How many records were passed over, by reason.
        examples: For each reason the first place, as ``line 17``.
        back_steps: Frames whose time lies before that of the frame before them.
        bus_names: Names of the buses in the order of the batches' bus indices.
    """

    frames: int = 0
    skipped: dict[str, int] = field(default_factory=dict)
    examples: dict[str, str] = field(default_factory=dict)
    back_steps: int = 0
    bus_names: list[str] = field(default_factory=list)

    def skip(self, reason: str, place: str, count: int = 1) -> None:
        """Count records that were passed over."""
        if count:
            self.skipped[reason] = self.skipped.get(reason, 0) + count
            self.examples.setdefault(reason, place)

    @property
    def skipped_total(self) -> int:
        """Records passed over for any reason."""
        return sum(self.skipped.values())

    def sentences(self) -> list[str]:
        """What a person should know, one sentence each."""
        said = [
            f"skipped {count}: {reason} (first at {self.examples[reason]})" for reason, count in self.skipped.items()
        ]
        if self.back_steps:
            said.append(f"{self.back_steps} frames lie before the frame above them; file order was kept")
        return said


Reader = Callable[[Path, Account, Progress], Iterator[FrameBatch]]


@dataclass(frozen=True)
class Format:
    """A foreign format that can be read.

    Attributes:
        name: What people call it.
        recognises: Given the first 64 KiB, says why it is this format, or None.
        read: The reader.
    """

    name: str
    recognises: Callable[[bytes], str | None]
    read: Reader
