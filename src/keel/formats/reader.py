"""What every reader of a foreign format gives: batches of frames, and an account of what it skipped."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

import numpy as np

from keel.model.frames import Bytes, FrameBatch

BLOCK_BYTES = 8 << 20
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
        media: What kind of line each bus is, by its name; CAN, where it is not said.
        notes: What the file itself says of the capture.
        comments: What the file says of single frames: their number, counted from the file's first, and the text.
        lost: Frames that the capture says it lost.
        unkept: Frames that were read and could not be kept, by reason.
    """

    frames: int = 0
    skipped: dict[str, int] = field(default_factory=dict)
    examples: dict[str, str] = field(default_factory=dict)
    back_steps: int = 0
    bus_names: list[str] = field(default_factory=list)
    media: dict[str, str] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)
    comments: list[tuple[int, str]] = field(default_factory=list)
    lost: int = 0
    unkept: dict[str, int] = field(default_factory=dict)
    _said: dict[str, str] = field(default_factory=dict)
    _last: int | None = None

    def skip(self, reason: str, place: str, count: int = 1) -> None:
        """Count records that were passed over."""
        if count:
            self.skipped[reason] = self.skipped.get(reason, 0) + count
            self.examples.setdefault(reason, place)

    def lose(self, reason: str, place: str, total: int) -> None:
        """Say how many frames could not be kept so far, for a reason."""
        self.unkept[reason] = total
        self.examples.setdefault(reason, place)

    def once(self, about: str, sentence: str) -> None:
        """Say something that may be said again, better, later."""
        self._said[about] = sentence

    def took(self, batch: FrameBatch) -> None:
        """Count frames that were read."""
        if len(batch):
            time = batch.time
            before = time[0] if self._last is None else self._last
            self.back_steps += int((np.diff(time) < 0).sum()) + int(time[0] < before)
            self._last = int(time[-1])
            self.frames += len(batch)

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
        if self.lost:
            said.append(f"the capture says that {self.lost} frames were lost")
        said += [
            f"{count} frames are lost: {reason} (first at {self.examples[reason]})"
            for reason, count in self.unkept.items()
        ]
        return [*said, *self._said.values(), *self.notes]

    @property
    def missing(self) -> int:
        """Frames that are not in the recording: lost before the capture, or not kept."""
        return self.lost + sum(self.unkept.values())


class Parser(Protocol):
    """Reads a format piece by piece, from a file or as it comes through a pipe."""

    def feed(self, buffer: Bytes, final: bool) -> tuple[list[FrameBatch], int]:
        """Read what can be read of ``buffer``.

        Args:
            buffer: Bytes from where the last call stopped.
            final: Whether the file ends with them.

        Returns:
            Frames, and how many bytes they took; what is left comes again, with more.
        """


Reader = Callable[[Path, Account, Progress], Iterator[FrameBatch]]


def read_with(parser: Parser, path: Path, account: Account, progress: Progress) -> Iterator[FrameBatch]:
    """Read a file block by block."""
    # Read, not mapped: a log that is cut while it is read must not end the process.
    with path.open("rb") as file:
        total, at = os.fstat(file.fileno()).st_size, 0
        room, held = np.empty(2 * BLOCK_BYTES, np.uint8), 0
        final = False
        while not final:
            # Of a record longer than a block ever more is looked at.
            wanted = max(BLOCK_BYTES, held)
            if held + wanted > len(room):
                room = np.concatenate([room[:held], np.empty(2 * (held + wanted), np.uint8)])
            got = file.readinto(room[held : held + wanted].data)
            held += got
            final = got < wanted or at + held >= total
            buffer = room[:held]
            buffer.setflags(write=False)
            batches, used = parser.feed(buffer, final)
            for batch in batches:
                account.took(batch)
                yield batch
            at += used
            room[: held - used] = room[used:held].copy()
            held -= used
            progress(min(at, total), total)
    progress(total, total)


@dataclass(frozen=True)
class Format:
    """A foreign format that can be read.

    Attributes:
        name: What people call it.
        recognises: Given the first 64 KiB, says why it is this format, or None.
        read: The reader.
        parser: Makes a parser for what comes through a pipe; None if the format cannot come so.
    """

    name: str
    recognises: Callable[[bytes], str | None]
    read: Reader
    parser: Callable[[Account], Parser] | None = None
