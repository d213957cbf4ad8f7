"""Terms about a frame and one before it: the time between them, and what changed in the payload."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from keel.ask.nodes import NONE, SOME, Plain, Scope, Verdicts
from keel.ask.patterns import moved_rows
from keel.ask.terms import COMPARISONS
from keel.ask.times import time_text
from keel.model.frames import Mask
from keel.store.chunk import Chunk
from keel.store.summary import NEVER, SHOWN_BYTES


@dataclass(frozen=True)
class Gap(Plain):
    """``gap``: time since the frame of the same identifier before. A first frame has none and never matches."""

    compare: str
    ns: int

    def __str__(self) -> str:
        return f"gap{self.compare}{time_text(self.ns)}"

    def decide(self, scope: Scope) -> Verdicts:
        """Identifiers of good frames alone whose longest gap is known to be too short."""
        chunk = scope.chunk
        summary = chunk.summary
        joined = np.where(chunk.before == NEVER, NEVER, summary.good_first - chunk.before)
        longest = np.maximum(np.where(summary.good > 1, summary.most, NEVER), joined)
        short = (summary.good == summary.frames) & (longest < self.ns) & (self.compare in (">", ">=", "="))
        return np.where(short, NONE, SOME).astype(np.int8)

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows with such a gap before them."""
        chunk = scope.chunk
        rows = np.arange(low, high)
        mask: Mask = COMPARISONS[self.compare](chunk.since_same_key(rows), self.ns)
        firsts = chunk.starts[:-1][chunk.before == NEVER]
        mask[firsts[(firsts >= low) & (firsts < high)] - low] = False
        return mask


@dataclass(frozen=True)
class Step(Plain):
    """``step``: time since the frame that arrived before, whatever it was."""

    compare: str
    ns: int

    def __str__(self) -> str:
        return f"step{self.compare}{time_text(self.ns)}"

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows with such a step before them."""
        chunk = scope.chunk
        arrival = chunk.arrival[low:high].astype(np.int64)
        earlier = chunk.batch.time[chunk.order[np.maximum(arrival - 1, 0)]]
        steps = chunk.batch.time[low:high] - earlier
        first = arrival == 0
        if chunk.time_before != NEVER:
            steps[first] += earlier[first] - chunk.time_before
        mask: Mask = COMPARISONS[self.compare](steps, self.ns)
        return mask & ~first if chunk.time_before == NEVER else mask


@dataclass(frozen=True)
class Moved(Plain):
    """``moved``: the payload differs from that of the frame of the same identifier before; ``moved@n`` in byte n.

    Frames with a fault and remote requests are passed over: they neither match nor are compared with.
    """

    byte: int | None = None

    def __str__(self) -> str:
        return "moved" if self.byte is None else f"moved@{self.byte}"

    def decide(self, scope: Scope) -> Verdicts:
        """Identifiers whose payload never changed."""
        summary = scope.chunk.summary
        still = summary.changes == 0
        if self.byte is not None and self.byte < summary.changed_at.shape[1]:
            still |= summary.changed_at[:, self.byte] == 0
        elif self.byte is not None and self.byte < SHOWN_BYTES:
            still[:] = True
        # The first frame is compared with one in a chunk before.
        joined = [self._first_moved(scope, run) for run in np.flatnonzero(still).tolist()]
        still[np.flatnonzero(still)[np.array(joined, np.bool_)]] = False
        return np.where(still, NONE, SOME).astype(np.int8)

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows that moved."""
        chunk = scope.chunk
        batch = chunk.batch
        mask = np.zeros(high - low, np.bool_)
        first, last = (int(run) for run in chunk.runs_of(np.array([low, high - 1])))
        for run in range(first, last + 1):
            start, end = max(int(chunk.starts[run]), low), min(int(chunk.starts[run + 1]), high)
            good = np.flatnonzero(batch.slice(start, end).passed_over() == 0) + start
            if not len(good):
                continue
            mask[good[1:] - low] = moved_rows(batch, good, self.byte)
            mask[good[0] - low] = self._first_moved(scope, run)
        return mask

    def _first_moved(self, scope: Scope, run: int) -> bool:
        """Whether the first good frame of a run differs from the last one in the chunks before."""
        chunk = scope.chunk
        summary = chunk.summary
        if not summary.good[run] or not scope.place:
            return False
        before = _last_good(scope, int(chunk.keys[run]))
        if before is None:
            return False
        earlier, its_run = before
        known = earlier.summary
        if self.byte is None:
            return bool(
                known.last_size[its_run] != summary.first_size[run]
                or known.last_hash[its_run] != summary.first_hash[run]
            )
        payloads = []
        for head, size, reach in (
            (known.last_head[its_run], int(known.last_size[its_run]), known.last_head.shape[1]),
            (summary.first_head[run], int(summary.first_size[run]), summary.first_head.shape[1]),
        ):
            payloads.append(int(head[self.byte]) if self.byte < min(size, reach) else -1)
        if self.byte < SHOWN_BYTES:
            return payloads[0] != payloads[1]
        rows = np.flatnonzero(chunk.batch.slice(*chunk.starts[run : run + 2].tolist()).passed_over() == 0)
        here = chunk.batch.payload(int(chunk.starts[run] + rows[0]))
        there = earlier.batch.payload(int(known.last_row[its_run]))
        return here[self.byte : self.byte + 1] != there[self.byte : self.byte + 1]


def _last_good(scope: Scope, key: int) -> tuple[Chunk, int] | None:
    """The chunk before that has good frames of a key, and the run in it."""
    for place in range(scope.place - 1, -1, -1):
        chunk = scope.chunks[place]
        run = int(np.searchsorted(chunk.keys, np.uint64(key)))
        if run < len(chunk.keys) and int(chunk.keys[run]) == key and chunk.summary.good[run]:
            return chunk, run
    return None
