"""How well a recording goes: buffer, rates, losses and where, clock steps, holes, how long the disk lasts."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from keel.sources.feed import Feed
from keel.sources.source import Lost
from keel.store.manifest import Hole
from keel.store.writer import free_bytes

OVER_S = 2.0
"""Rates are those of so many seconds."""
A_STEP_NS = 50_000_000
"""The clock was set where it goes on by so much more, or less, than time passed."""
FREE_EVERY_S = 1.0


class Flow:
    """Looks at a recording while it is made.

    Attributes:
        steps: When the clock was set, and by how much, in ns.
        buffer: How full the fullest buffer was since the last look, from 0 to 1.
        in_hz, disk_hz: Frames a second that were read, and written.
        disk_left_s: How long the disk lasts at this rate; negative if that is not known.
    """

    def __init__(self, folder: Path, feeds: Sequence[Feed]) -> None:
        self._folder, self._feeds = folder, feeds
        self._past: deque[tuple[float, int, int, int]] = deque()
        self._offset = time.time_ns() - time.monotonic_ns()
        self._free, self._free_at = free_bytes(folder), 0.0
        self.steps: list[tuple[int, int]] = []
        self.buffer = self.in_hz = self.disk_hz = 0.0
        self.disk_left_s = -1.0

    def look(self, taken: int, written: int) -> None:
        """Take in what became of frames until now: how many were added, and the bytes of them."""
        now = time.monotonic()
        self.buffer = max((feed.fill for feed in self._feeds), default=0.0)
        self._past.append((now, sum(feed.read for feed in self._feeds), taken, written))
        while len(self._past) > 2 and now - self._past[0][0] > OVER_S:
            self._past.popleft()
        (then, read_then, taken_then, written_then), (_, read, _, _) = self._past[0], self._past[-1]
        passed = now - then
        if passed > 0:
            self.in_hz, self.disk_hz = (read - read_then) / passed, (taken - taken_then) / passed
            bytes_hz = (written - written_then) / passed
            if now - self._free_at >= FREE_EVERY_S:
                self._free, self._free_at = free_bytes(self._folder), now
            self.disk_left_s = self._free / bytes_hz if bytes_hz > 0 else -1.0
        offset = time.time_ns() - time.monotonic_ns()
        if abs(offset - self._offset) > A_STEP_NS:
            self.steps.append((time.time_ns(), offset - self._offset))
        self._offset = offset

    def manifest_holes(self, closed: bool = True) -> list[Hole]:
        """When sources were not there; those that still are not, until now."""
        now = time.time_ns()
        return [
            Hole(gap.start, now if gap.end is None else gap.end, tuple(bus.name for bus in feed.source.buses), gap.why)
            for feed in self._feeds
            for gap in feed.gaps
            if closed or gap.end is not None
        ]

    def holes(self, closed: bool = False) -> list[dict[str, Any]]:
        """The same as plain data; ``end`` is None where a source is still not there."""
        return [
            {
                "start": gap.start,
                "end": time.time_ns() if gap.end is None and closed else gap.end,
                "buses": [bus.name for bus in feed.source.buses],
                "why": gap.why,
            }
            for feed in self._feeds
            for gap in feed.gaps
        ]

    @property
    def panel(self) -> list[dict[str, Any]]:
        """The controls of all sources, as plain data."""
        from dataclasses import asdict

        return [asdict(control) for feed in self._feeds for control in feed.source.controls]

    def said(self, lost: Lost) -> list[str]:
        """What a person should know of it, in sentences."""
        said = [f"{lost.total} frames are lost: {lost.words}"] if lost.total else []
        for hole in self.manifest_holes():
            where = ", ".join(hole.buses) or "a source"
            said.append(f"{where}: nothing came for {(hole.end - hole.start) / 1e9:.1f} s: {hole.why}")
        if self.steps:
            by = sum(step for _, step in self.steps) / 1e9
            said.append(f"the clock was set {len(self.steps)} times, by {by:+.3f} s in all")
        return said
