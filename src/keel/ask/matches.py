"""Which frames of a recording an ask and a lens leave, and how to get at the n-th of them."""

from __future__ import annotations

from bisect import bisect_right
from dataclasses import dataclass, field

import numpy as np

from keel.ask.nodes import Everything, Node, Scene
from keel.model.frames import Mask, Rows
from keel.model.span import Span
from keel.store.chunk import Chunk
from keel.store.recording import Snapshot


@dataclass(frozen=True, eq=False)
class Part:
    """The matches of one chunk, in order of arrival: all of it, a range, or a bitmap (packed, 1 bit a frame)."""

    chunk: Chunk
    count: int
    low: int
    high: int
    packed: np.ndarray[tuple[int], np.dtype[np.uint8]] | None = None

    @property
    def whole(self) -> bool:
        """Whether every frame of the chunk matches."""
        return self.count == len(self.chunk)

    def mask(self) -> Mask:
        """Matches in order of arrival, shape (n,)."""
        if self.packed is not None:
            return np.unpackbits(self.packed, count=len(self.chunk)).view(np.bool_)
        mask = np.zeros(len(self.chunk), np.bool_)
        mask[self.low : self.high] = True
        return mask

    def stored_mask(self) -> Mask | None:
        """Matches over the stored rows, or None for all."""
        if self.whole:
            return None
        stored = np.zeros(len(self.chunk), np.bool_)
        stored[self.chunk.order] = self.mask()
        return stored

    def rows(self, start: int, stop: int) -> Rows:
        """Arrivals within the chunk of matches ``start`` to ``stop``."""
        if self.packed is None:
            return np.arange(self.low + start, min(self.low + stop, self.high), dtype=np.int64)
        return np.flatnonzero(self.mask())[start:stop].astype(np.int64)

    def rank(self, arrival: int) -> int:
        """How many matches lie before an arrival."""
        if self.packed is None:
            return min(max(arrival - self.low, 0), self.count)
        return int(np.count_nonzero(self.mask()[:arrival]))


def _part(chunk: Chunk, mask: Mask) -> Part:
    count = int(np.count_nonzero(mask))
    if count == len(chunk):
        return Part(chunk, count, 0, count)
    if not count:
        return Part(chunk, 0, 0, 0)
    return Part(chunk, count, 0, len(chunk), np.packbits(mask))


@dataclass(frozen=True, eq=False)
class Matches:
    """The frames that an ask and a lens leave.

    Attributes:
        parts: Per chunk.
        total: How many match the ask in the whole recording, whatever the lens.
    """

    snapshot: Snapshot
    parts: tuple[Part, ...]
    total: int
    _ends: list[int] = field(default_factory=list)

    def __post_init__(self) -> None:
        self._ends.extend(np.cumsum([p.count for p in self.parts]).tolist())

    def __len__(self) -> int:
        return self._ends[-1] if self._ends else 0

    def numbers(self, start: int, stop: int) -> Rows:
        """Frame numbers of matches ``start`` to ``stop``."""
        found = []
        start, stop = max(start, 0), min(stop, len(self))
        at = bisect_right(self._ends, start)
        while start < stop:
            part = self.parts[at]
            base = self._ends[at] - part.count
            rows = part.rows(start - base, min(stop - base, part.count))
            found.append(rows + part.chunk.first)
            start = self._ends[at]
            at += 1
        return np.concatenate(found) if found else np.zeros(0, np.int64)

    def rank(self, number: int) -> int:
        """How many matches have a smaller frame number."""
        before = 0
        for part in self.parts:
            if number < part.chunk.first:
                break
            if number < part.chunk.first + len(part.chunk):
                return before + part.rank(number - part.chunk.first)
            before += part.count
        return before

    def at_or_after(self, time: int) -> int:
        """The rank of the first match at or after a time (for times that never step back; else near it)."""
        low, high = 0, len(self)
        while low < high:
            middle = (low + high) // 2
            number = int(self.numbers(middle, middle + 1)[0])
            if int(self.snapshot.rows(number, number + 1).time[0]) < time:
                low = middle + 1
            else:
                high = middle
        return low


class Matcher:
    """Runs one ask over the chunks of growing snapshots; a chunk is looked at once."""

    def __init__(self, node: Node, scene: Scene) -> None:
        self.node, self.scene = node, scene
        self._known: dict[int, Part] = {}

    def run(self, snapshot: Snapshot, lens: Span | None = None) -> Matches:
        """The frames that match, within the lens."""
        known = {c.serial: self._known.get(c.serial) or self._match(c) for c in snapshot.chunks}
        self._known = known
        parts = tuple(_within(part, lens) for part in known.values())
        return Matches(snapshot, parts, sum(p.count for p in known.values()))

    def _match(self, chunk: Chunk) -> Part:
        if isinstance(self.node, Everything):
            return Part(chunk, len(chunk), 0, len(chunk))
        return _part(chunk, self.node.find(chunk, self.scene)[chunk.order])


def _within(part: Part, lens: Span | None) -> Part:
    if lens is None or not part.count:
        return part
    inside = part.chunk.in_span(lens)
    if isinstance(inside, tuple):
        low, high = inside
        if (low, high) == (0, len(part.chunk)):
            return part
        if part.packed is None:
            low = max(low, part.low)
            high = max(min(high, part.high), low)
            return Part(part.chunk, high - low, low, high)
        mask = part.mask().copy()
        mask[:low] = False
        mask[high:] = False
        return _part(part.chunk, mask)
    return _part(part.chunk, part.mask() & inside)
