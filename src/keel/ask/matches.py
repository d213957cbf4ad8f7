"""Which frames of a recording an ask and a lens leave, and how to get at the n-th of them."""

from __future__ import annotations

import os
from bisect import bisect_right
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from keel.ask.nodes import ALL, NONE, SOME, Everything, Node, Scene, Scope, stretches
from keel.ask.parts import Part, Prepare, nothing, packed_part, runs_part, within
from keel.model.frames import Rows
from keel.model.span import Span
from keel.store.chunk import Chunk
from keel.store.recording import Snapshot
from keel.store.segment import Sealed

WORKERS = os.cpu_count() or 1
pool = ThreadPoolExecutor(WORKERS, "ask")


@dataclass(frozen=True, eq=False)
class Matches:
    """The frames that an ask and a lens leave.

    Attributes:
        parts: Per chunk.
        total: How many match the ask in the whole recording, whatever the lens.
        looked: The share of the frames looked at; below 1 the counts are of what was found so far.
    """

    snapshot: Snapshot
    parts: tuple[Part, ...]
    total: int
    looked: float = 1.0

    @property
    def complete(self) -> bool:
        """Whether all frames were looked at."""
        return self.looked >= 1.0

    @cached_property
    def _ends(self) -> list[int]:
        ends: list[int] = np.cumsum([p.count for p in self.parts], dtype=np.int64).tolist()
        return ends

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
        if not self.parts:
            return 0
        at = max(self.snapshot.chunk_of(number), 0)
        part = self.parts[at]
        return self._ends[at] - part.count + part.rank(min(number - part.chunk.first, len(part.chunk)))

    def frame_at(self, time: int) -> int | None:
        """The number of the first frame at or after a time, else of the last; None if no frame matches."""
        rank = min(self.at_or_after(time), len(self) - 1)
        return int(self.numbers(rank, rank + 1)[0]) if len(self) else None

    def at_or_after(self, time: int) -> int:
        """The rank of the first match at or after a time (for times that never step back; else near it)."""
        for part in self.parts:
            if part.count and part.chunk.span.end >= time:
                return self.rank(part.chunk.first + part.chunk.first_at(time))
        return len(self)


@dataclass(frozen=True, eq=False)
class _Found:
    """What is known of one chunk, and of which chunks about it that depends."""

    part: Part
    depends: tuple[int, ...]


class Matcher:
    """Runs one ask over the chunks of growing snapshots; a chunk is looked at once."""

    def __init__(self, node: Node, scene: Scene, prepare: Prepare = lambda _: None) -> None:
        """``prepare`` is called with each part that needed its rows, on the thread that looked at them."""
        self.node, self.scene, self._prepare = node, scene, prepare
        self._known: dict[int, _Found] = {}
        self._windows: dict[tuple[int, Span], tuple[Part, Part]] = {}
        self._reach = node.reach()

    def run(self, snapshot: Snapshot, lens: Span | None = None, patience: Callable[[], bool] | None = None) -> Matches:
        """The frames that match, within the lens.

        Args:
            snapshot: The recording as it stands.
            lens: The span that counts; None for all.
            patience: Asked between chunks whether to go on; chunks that were not looked at are left for the next
                call. The rows in memory, the newest, come first, then the others from the beginning.
        """
        chunks = snapshot.chunks
        known: dict[int, _Found] = {}
        waiting: list[int] = []
        for place, chunk in enumerate(chunks):
            depends = self._depends(chunks, place)
            found = self._known.get(chunk.serial)
            if found is not None and found.depends == depends:
                known[chunk.serial] = found
            else:
                waiting.append(place)
        waiting.sort(key=lambda place: isinstance(chunks[place], Sealed))
        for at in range(0, len(waiting), WORKERS):
            if at and patience is not None and not patience():
                break
            group = waiting[at : at + WORKERS]
            scope = Scope(chunks, 0, self.scene)
            scopes = [scope.at(place) for place in group]
            made = list(pool.map(self._match, scopes)) if len(group) > 1 else [self._match(scopes[0])]
            for place, part in zip(group, made, strict=True):
                known[chunks[place].serial] = _Found(part, self._depends(chunks, place))
        self._known = known
        return self._gather(snapshot, lens)

    def _gather(self, snapshot: Snapshot, lens: Span | None) -> Matches:
        parts, windows, looked, total = [], {}, 0, 0
        for chunk in snapshot.chunks:
            found = self._known.get(chunk.serial)
            part = found.part if found is not None else nothing(chunk, known=False)
            total += part.count
            looked += len(chunk) if found is not None else 0
            if lens is not None:
                name = (chunk.serial, lens)
                kept = self._windows.get(name)
                if kept is None or kept[0] is not part:
                    kept = (part, within(part, chunk.in_span(lens)))
                windows[name] = kept
                part = kept[1]
            parts.append(part)
        self._windows = windows
        return Matches(snapshot, tuple(parts), total, looked / max(snapshot.frames, 1) if snapshot.frames else 1.0)

    def _depends(self, chunks: Sequence[Chunk], place: int) -> tuple[int, ...]:
        """The chunks within reach, whose coming or changing may change the answer."""
        before, after = self._reach
        if not after and not before:
            return ()
        span = chunks[place].span
        low, high = span.start - before, span.end + after
        return tuple(c.serial for c in chunks if c.span.end >= low and c.span.start <= high)

    def _match(self, scope: Scope) -> Part:
        chunk = scope.chunk
        if isinstance(self.node, Everything):
            return Part(chunk, len(chunk))
        verdicts = self.node.decide(scope)
        if not (verdicts == SOME).any():
            return runs_part(chunk, verdicts == ALL) if (verdicts != NONE).any() else nothing(chunk)
        ranges = stretches(chunk, verdicts)
        if isinstance(chunk, Sealed):
            chunk.read_ahead()
        mask = np.zeros(len(chunk), np.bool_)
        for low, high, verdict in ranges:
            mask[low:high] = True if verdict == ALL else self.node.find(scope, low, high)
        if isinstance(chunk, Sealed):
            chunk.release()
        part = packed_part(chunk, mask)
        self._prepare(part)
        return part
