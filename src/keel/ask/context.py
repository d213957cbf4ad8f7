"""Conditions that look at what happened about a frame: ``near(... within t)`` and ``A then B within t``."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from keel.ask.nodes import ANY_OF, IN_TURN, NONE, SOME, Node, Scope, Verdicts, enclosed
from keel.ask.times import time_text
from keel.model.frames import Mask, Rows, Times


def _about(scope: Scope, before_ns: int, after_ns: int) -> list[int]:
    """The chunks whose times come within a reach of the chunk's."""
    span = scope.chunk.span
    low, high = span.start - before_ns, span.end + after_ns
    return [i for i, chunk in enumerate(scope.chunks) if chunk.span.end >= low and chunk.span.start <= high]


def _may_match(node: Node, scope: Scope) -> bool:
    return bool((node.decide(scope) != NONE).any())


@dataclass(frozen=True)
class Near:
    """Frames at most ``ns`` before or after a frame that the part finds, itself included."""

    part: Node
    ns: int

    def __str__(self) -> str:
        return f"near({enclosed(self.part, ANY_OF)} within {time_text(self.ns)})"

    def reach(self) -> tuple[int, int]:
        """The part's, and the time about it."""
        before, after = self.part.reach()
        return before + self.ns, after + self.ns

    def _times(self, scope: Scope) -> Times:
        """When the part's matches were that can matter to the chunk, ascending."""
        found = []
        for place in _about(scope, self.ns, self.ns):
            other = scope.at(place)
            if _may_match(self.part, other):
                found.append(other.chunk.batch.time[other.mask(self.part)])
        return np.sort(np.concatenate(found)) if found else np.zeros(0, np.int64)

    def decide(self, scope: Scope) -> Verdicts:
        """Nobody, if there is no match about; else it must be looked at."""
        near = any(_may_match(self.part, scope.at(place)) for place in _about(scope, self.ns, self.ns))
        return np.full(len(scope.chunk.keys), SOME if near else NONE, np.int8)

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows within the time of a match."""
        times = scope.chunk.batch.time[low:high]
        matches = self._times(scope)
        if not len(matches):
            return np.zeros(high - low, np.bool_)
        after = np.searchsorted(matches, times)
        ahead = matches[np.minimum(after, len(matches) - 1)] - times
        behind = times - matches[np.maximum(after - 1, 0)]
        mask: Mask = ((after < len(matches)) & (ahead <= self.ns)) | ((after > 0) & (behind <= self.ns))
        return mask


@dataclass(frozen=True)
class Then:
    """Frames that the second part finds, with one that the first finds at most ``ns`` before them."""

    first: Node
    second: Node
    ns: int
    loose: ClassVar[int] = IN_TURN

    def __str__(self) -> str:
        return f"{self.first} then {enclosed(self.second, ANY_OF)} within {time_text(self.ns)}"

    def reach(self) -> tuple[int, int]:
        """Back by the time allowed, and as far as the parts look."""
        first, second = self.first.reach(), self.second.reach()
        return max(first[0] + self.ns, second[0]), max(first[1], second[1])

    def decide(self, scope: Scope) -> Verdicts:
        """What the second part rules out, and everything if the first is nowhere about."""
        about = self._before(scope)
        if not any(_may_match(self.first, scope.at(place)) for place in about):
            return np.full(len(scope.chunk.keys), NONE, np.int8)
        return np.minimum(self.second.decide(scope), np.int8(SOME))

    def _before(self, scope: Scope) -> list[int]:
        """The chunks that arrived no later and may hold a first one; their clock may have been set back since."""
        low = scope.chunk.span.start - self.ns
        return [place for place in range(scope.place + 1) if scope.chunks[place].span.end >= low]

    def _firsts(self, scope: Scope) -> tuple[Rows, Times]:
        """Numbers and times of the first part's matches that can matter, in order of arrival."""
        numbers, times = [], []
        for place in self._before(scope):
            other = scope.at(place)
            if _may_match(self.first, other):
                rows = np.flatnonzero(other.mask(self.first))
                arrival = other.chunk.arrival[rows].astype(np.int64)
                order = np.argsort(arrival)
                numbers.append(arrival[order] + other.chunk.first)
                times.append(other.chunk.batch.time[rows[order]])
        if not numbers:
            return np.zeros(0, np.int64), np.zeros(0, np.int64)
        return np.concatenate(numbers), np.concatenate(times)

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows that come so soon after."""
        mask = self.second.find(scope, low, high)
        rows = np.flatnonzero(mask)
        numbers, times = self._firsts(scope)
        if not len(numbers):
            return np.zeros(high - low, np.bool_)
        here = scope.chunk.arrival[rows + low].astype(np.int64) + scope.chunk.first
        before = np.searchsorted(numbers, here) - 1
        since = scope.chunk.batch.time[rows + low] - times[np.maximum(before, 0)]
        mask[rows] = (before >= 0) & (since <= self.ns)
        return mask
