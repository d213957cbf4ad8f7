"""The terms of an ask that concern one frame, and the time since the one before."""

from __future__ import annotations

import operator
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from keel.ask.nodes import ALL, NONE, SOME, Plain, Scene, Scope, Verdicts
from keel.ask.patterns import find_pattern, moved_rows
from keel.ask.times import time_text
from keel.model.faults import fault_words
from keel.model.frames import Flag, Mask
from keel.model.globs import Glob, quoted
from keel.model.identity import Form, unpack_key
from keel.store.chunk import Chunk
from keel.store.summary import NEVER, SHOWN_BYTES

COMPARISONS: dict[str, Callable[[Any, Any], Any]] = {
    ">": operator.gt,
    ">=": operator.ge,
    "<": operator.lt,
    "<=": operator.le,
    "=": operator.eq,
    "!=": operator.ne,
}


NO_IDENT = "none"
ANY_FAULT = 0xFFFFFFFF


class PerKey(Plain):
    """A condition that the key alone decides: one look per identifier, not per row."""

    def decide(self, scope: Scope) -> Verdicts:
        """All frames of the keys that are wanted."""
        wants = self.chooser(scope.scene)
        return np.array([ALL if wants(key) else NONE for key in scope.chunk.keys.tolist()], np.int8)

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows of the keys that are wanted."""
        starts = np.clip(scope.chunk.starts, low, high)
        return np.repeat(self.decide(scope) == ALL, np.diff(starts))

    def chooser(self, scene: Scene) -> Callable[[int], bool]:
        """What says whether a key is wanted."""
        raise NotImplementedError


@dataclass(frozen=True)
class IdRange:
    """Identifiers from ``low`` to ``high`` whose bits under ``mask`` equal ``low``'s; ``form`` None is any with one.

    Of the form NONE it stands for frames without an identifier.
    """

    low: int
    high: int
    mask: int | None
    form: Form | None

    def wants(self, form: Form, ident: int) -> bool:
        """Whether the identifier is in it."""
        if form == Form.NONE or self.form == Form.NONE:
            return form == self.form
        if self.form is not None and form != self.form:
            return False
        if self.mask is not None:
            return ident & self.mask == self.low
        return self.low <= ident <= self.high

    def __str__(self) -> str:
        if self.form == Form.NONE:
            return NO_IDENT
        digits = {Form.BASE: 3, Form.EXTENDED: 8}.get(self.form, 0) if self.form is not None else 0
        if self.mask is not None:
            shown = f"{self.low:0{digits or 12}X}"
            open_ = f"{self.mask:0{len(shown)}X}"[-len(shown) :]
            return "".join("?" if bits == "0" else digit for digit, bits in zip(shown, open_, strict=True))
        if self.low == self.high:
            return f"{self.low:0{digits or 9}X}"
        return f"{self.low:0{digits or 3}X}..{self.high:0{digits or 4}X}"


@dataclass(frozen=True)
class Ids(PerKey):
    """``id:``"""

    ranges: tuple[IdRange, ...]

    def __str__(self) -> str:
        return "id:" + ",".join(map(str, self.ranges))

    def chooser(self, scene: Scene) -> Callable[[int], bool]:
        """Whether any of the ranges has it."""

        def wants(key: int) -> bool:
            _, form, ident = unpack_key(key)
            return any(r.wants(form, ident) for r in self.ranges)

        return wants


@dataclass(frozen=True)
class Buses(PerKey):
    """``bus:``, with ``*`` and ``?`` for what may vary."""

    patterns: tuple[Glob, ...]

    def __str__(self) -> str:
        return "bus:" + ",".join(map(str, self.patterns))

    def meant(self, scene: Scene) -> frozenset[str]:
        """The names of the buses that are meant."""
        return frozenset().union(*(pattern.among(scene.buses) for pattern in self.patterns))

    def chooser(self, scene: Scene) -> Callable[[int], bool]:
        """Whether the key's bus has one of the names."""
        meant = self.meant(scene)
        indices = {index for index, name in enumerate(scene.buses) if name in meant}
        return lambda key: key >> 56 in indices


@dataclass(frozen=True)
class Names(PerKey):
    """``name:``, with ``*`` and ``?`` for what may vary."""

    patterns: tuple[Glob, ...]

    def __str__(self) -> str:
        return "name:" + ",".join(map(str, self.patterns))

    def meant(self, scene: Scene) -> frozenset[str]:
        """The names of the messages that are meant."""
        return frozenset().union(*(pattern.among(scene.book.message_names) for pattern in self.patterns))

    def chooser(self, scene: Scene) -> Callable[[int], bool]:
        """Whether the key's message has one of the names."""
        meant, book = self.meant(scene), scene.book

        def wants(key: int) -> bool:
            message = book.message(key)
            return message is not None and message.name in meant

        return wants


@dataclass(frozen=True)
class Direction(Plain):
    """``dir:``"""

    sent: bool

    def __str__(self) -> str:
        return "dir:tx" if self.sent else "dir:rx"

    def decide(self, scope: Scope) -> Verdicts:
        """Identifiers that were never sent, or only."""
        never = (scope.chunk.summary.flag_mask & np.uint16(Flag.TX)) == 0
        return np.where(never, NONE if self.sent else ALL, SOME).astype(np.int8)

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows sent, or received."""
        mask: Mask = ((scope.chunk.batch.flags[low:high] & np.uint16(Flag.TX)) != 0) == self.sent
        return mask


@dataclass(frozen=True)
class Length(Plain):
    """``len``: of the payload. An error frame has none: what a capture says in its place are details of the error."""

    compare: str
    value: int

    def __str__(self) -> str:
        return f"len{self.compare}{self.value}"

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows whose payload has such a length."""
        batch = scope.chunk.batch
        lengths = np.diff(batch.offsets[low : high + 1])
        lengths[batch.form[low:high] == Form.NONE] = 0
        mask: Mask = COMPARISONS[self.compare](lengths, self.value)
        return mask


@dataclass(frozen=True)
class HasBytes(Plain):
    """``bytes:`` anywhere in the payload, or ``bytes@n:`` at one place; None in the pattern is any byte."""

    pattern: tuple[int | None, ...]
    at: int | None = None

    def __str__(self) -> str:
        shown = " ".join("??" if byte is None else f"{byte:02X}" for byte in self.pattern)
        return f'bytes:"{shown}"' if self.at is None else f'bytes@{self.at}:"{shown}"'

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows whose payload holds the pattern."""
        batch = scope.chunk.batch
        return find_pattern(batch.data, batch.offsets[low : high + 1], self.pattern, self.at)


@dataclass(frozen=True)
class HasText(Plain):
    """``text:``, ASCII, whatever its case."""

    text: str

    def __str__(self) -> str:
        return f"text:{quoted(self.text)}"

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows whose payload holds the text."""
        batch = scope.chunk.batch
        return find_pattern(batch.data, batch.offsets[low : high + 1], tuple(self.text.encode()), fold=True)


@dataclass(frozen=True)
class Bit(Plain):
    """``bit@n:v``, numbered from the least significant bit of byte 0. A payload too short never matches."""

    number: int
    value: int

    def __str__(self) -> str:
        return f"bit@{self.number}:{self.value}"

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows whose bit stands so."""
        found, present = scope.chunk.batch.slice(low, high).bytes_at(self.number // 8)
        mask: Mask = present & ((found >> (self.number % 8) & 1) == self.value)
        return mask


@dataclass(frozen=True)
class Faults(Plain):
    """``fault`` and ``fault:``"""

    mask: int

    def __str__(self) -> str:
        return "fault" if self.mask == ANY_FAULT else "fault:" + ",".join(fault_words(self.mask))

    def decide(self, scope: Scope) -> Verdicts:
        """Most identifiers never have any."""
        summary = scope.chunk.summary
        never = (summary.fault_mask & np.uint32(self.mask)) == 0
        always = (summary.faulty == summary.frames) & (self.mask == ANY_FAULT)
        return np.where(never, NONE, np.where(always, ALL, SOME)).astype(np.int8)

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows with any of the faults."""
        mask: Mask = (scope.chunk.batch.faults[low:high] & np.uint32(self.mask)) != 0
        return mask


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
class At(Plain):
    """``at:``: a span in time since the recording's start; None is open."""

    start_ns: int | None
    end_ns: int | None

    def __str__(self) -> str:
        start, end = ("" if ns is None else time_text(ns) for ns in (self.start_ns, self.end_ns))
        return f"at:{start}..{end}"

    def decide(self, scope: Scope) -> Verdicts:
        """By when each identifier's first and last frame was."""
        summary = scope.chunk.summary
        start, end = self._bounds(scope.scene)
        inside = (summary.first >= start) & (summary.last <= end)
        outside = (summary.last < start) | (summary.first > end)
        return np.where(inside, ALL, np.where(outside, NONE, SOME)).astype(np.int8)

    def _bounds(self, scene: Scene) -> tuple[int, int]:
        least, most = np.iinfo(np.int64).min, np.iinfo(np.int64).max
        start = least if self.start_ns is None else scene.start + self.start_ns
        return start, most if self.end_ns is None else scene.start + self.end_ns

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows within it, both ends included."""
        start, end = self._bounds(scope.scene)
        times = scope.chunk.batch.time[low:high]
        mask: Mask = (times >= start) & (times <= end)
        return mask


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
