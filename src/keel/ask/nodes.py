"""What an ask means, as a tree. Each node finds its frames in a chunk's columns."""

from __future__ import annotations

import operator
from collections.abc import Callable
from dataclasses import dataclass
from fnmatch import fnmatchcase
from typing import Any, Protocol

import numpy as np
import numpy.typing as npt

from keel.model.frames import Bytes, Flag, Mask
from keel.model.identity import Form, unpack_key
from keel.store.chunk import NEVER, Chunk

COMPARISONS: dict[str, Callable[[Any, Any], Any]] = {
    ">": operator.gt,
    ">=": operator.ge,
    "<": operator.lt,
    "<=": operator.le,
    "=": operator.eq,
    "!=": operator.ne,
}


@dataclass(frozen=True)
class Scene:
    """What an ask may refer to: bus names in index order, message names by key, and when time is 0."""

    buses: tuple[str, ...] = ()
    names: tuple[tuple[int, str], ...] = ()
    start: int = 0


class Node(Protocol):
    """A condition."""

    def find(self, chunk: Chunk, scene: Scene) -> Mask:
        """Which stored rows meet it, shape (n,)."""


@dataclass(frozen=True)
class Everything:
    """The empty ask."""

    def find(self, chunk: Chunk, scene: Scene) -> Mask:
        """All rows."""
        return np.ones(len(chunk), np.bool_)


@dataclass(frozen=True)
class All:
    """Every part holds. Later parts are not looked at when none is left."""

    parts: tuple[Node, ...]

    def find(self, chunk: Chunk, scene: Scene) -> Mask:
        """Rows that every part finds."""
        mask = self.parts[0].find(chunk, scene)
        for part in self.parts[1:]:
            if not mask.any():
                break
            mask = mask & part.find(chunk, scene)
        return mask


@dataclass(frozen=True)
class Any_:
    """At least one part holds."""

    parts: tuple[Node, ...]

    def find(self, chunk: Chunk, scene: Scene) -> Mask:
        """Rows that any part finds."""
        mask = self.parts[0].find(chunk, scene)
        for part in self.parts[1:]:
            mask = mask | part.find(chunk, scene)
        return mask


@dataclass(frozen=True)
class Not:
    """The part does not hold."""

    part: Node

    def find(self, chunk: Chunk, scene: Scene) -> Mask:
        """Rows that the part does not find."""
        return ~self.part.find(chunk, scene)


class _PerKey:
    """A condition that the key alone decides: one look per run, not per row."""

    def find(self, chunk: Chunk, scene: Scene) -> Mask:
        """Rows of the keys that are wanted."""
        wanted = [self.wants(int(key), scene) for key in chunk.run_keys]
        mask: Mask = np.repeat(np.array(wanted, np.bool_), np.diff(chunk.run_starts))
        return mask

    def wants(self, key: int, scene: Scene) -> bool:
        """Whether the key is wanted."""
        raise NotImplementedError


@dataclass(frozen=True)
class IdRange:
    """Identifiers from ``low`` to ``high`` whose bits under ``mask`` equal ``low``'s; ``form`` None is any."""

    low: int
    high: int
    mask: int | None
    form: Form | None

    def wants(self, form: Form, ident: int) -> bool:
        """Whether the identifier is in it."""
        if form == Form.NONE or (self.form is not None and form != self.form):
            return False
        if self.mask is not None:
            return ident & self.mask == self.low
        return self.low <= ident <= self.high


@dataclass(frozen=True)
class Ids(_PerKey):
    """``id:``"""

    ranges: tuple[IdRange, ...]

    def wants(self, key: int, scene: Scene) -> bool:
        """Whether any of the ranges has it."""
        _, form, ident = unpack_key(key)
        return any(r.wants(form, ident) for r in self.ranges)


@dataclass(frozen=True)
class Buses(_PerKey):
    """``bus:``"""

    words: tuple[str, ...]

    def wants(self, key: int, scene: Scene) -> bool:
        """Whether the key's bus has one of the names."""
        return scene.buses[key >> 56].lower() in self.words


@dataclass(frozen=True)
class Names(_PerKey):
    """``name:``, with ``*`` and ``?`` for what may vary."""

    patterns: tuple[str, ...]

    def wants(self, key: int, scene: Scene) -> bool:
        """Whether the key's message name fits one of the patterns."""
        name = dict(scene.names).get(key)
        return name is not None and any(fnmatchcase(name.lower(), p) for p in self.patterns)


@dataclass(frozen=True)
class Direction:
    """``dir:``"""

    sent: bool

    def find(self, chunk: Chunk, scene: Scene) -> Mask:
        """Rows sent, or received."""
        mask: Mask = ((chunk.batch.flags & np.uint16(Flag.TX)) != 0) == self.sent
        return mask


@dataclass(frozen=True)
class Length:
    """``len``"""

    compare: str
    value: int

    def find(self, chunk: Chunk, scene: Scene) -> Mask:
        """Rows whose payload has such a length."""
        mask: Mask = COMPARISONS[self.compare](chunk.batch.lengths, self.value)
        return mask


@dataclass(frozen=True)
class HasBytes:
    """``bytes:`` anywhere in the payload, or ``bytes@n:`` at one place; None in the pattern is any byte."""

    pattern: tuple[int | None, ...]
    at: int | None = None

    def find(self, chunk: Chunk, scene: Scene) -> Mask:
        """Rows whose payload holds the pattern."""
        batch = chunk.batch
        if self.at is None:
            return find_pattern(batch.data, batch.offsets, self.pattern)
        mask: Mask = batch.lengths >= self.at + len(self.pattern)
        for i, byte in enumerate(self.pattern):
            if byte is not None:
                mask = mask & (batch.bytes_at(self.at + i)[0] == byte)
        return mask


@dataclass(frozen=True)
class HasText:
    """``text:``, ASCII, whatever its case."""

    text: str

    def find(self, chunk: Chunk, scene: Scene) -> Mask:
        """Rows whose payload holds the text."""
        data = chunk.batch.data
        upper = (data >= 65) & (data <= 90)
        folded = np.where(upper, data + np.uint8(32), data)
        return find_pattern(folded, chunk.batch.offsets, tuple(self.text.lower().encode()))


def find_pattern(data: Bytes, offsets: npt.NDArray[Any], pattern: tuple[int | None, ...]) -> Mask:
    """Which of the payloads laid end to end hold ``pattern``; shape (len(offsets) - 1,)."""
    found = np.zeros(len(offsets) - 1, np.bool_)
    size = len(pattern)
    if len(data) < size or not len(found):
        return found
    hits = np.ones(len(data) - size + 1, np.bool_)
    for i, byte in enumerate(pattern):
        if byte is not None:
            hits &= data[i : len(data) - size + 1 + i] == byte
    places = np.flatnonzero(hits)
    rows = np.searchsorted(offsets, places, side="right") - 1
    whole = places + size <= offsets[rows + 1]
    found[rows[whole]] = True
    return found


@dataclass(frozen=True)
class Faults:
    """``fault`` and ``fault:``"""

    mask: int

    def find(self, chunk: Chunk, scene: Scene) -> Mask:
        """Rows with any of the faults."""
        mask: Mask = (chunk.batch.faults & np.uint32(self.mask)) != 0
        return mask


@dataclass(frozen=True)
class Gap:
    """``gap``: time since the frame of the same identifier before. A first frame has none and never matches."""

    compare: str
    ns: int

    def find(self, chunk: Chunk, scene: Scene) -> Mask:
        """Rows with such a gap before them."""
        since = chunk.since_same_key(np.arange(len(chunk)))
        first = _is_first(chunk)
        mask: Mask = COMPARISONS[self.compare](since, self.ns) & ~first
        return mask


def _is_first(chunk: Chunk) -> Mask:
    first = np.zeros(len(chunk), np.bool_)
    first[chunk.run_starts[:-1][chunk.before == NEVER]] = True
    return first


@dataclass(frozen=True)
class Step:
    """``step``: time since the frame that arrived before, whatever it was."""

    compare: str
    ns: int

    def find(self, chunk: Chunk, scene: Scene) -> Mask:
        """Rows with such a step before them."""
        times = chunk.arrival_times()
        earlier = times[0] if chunk.time_before == NEVER else chunk.time_before
        meets = COMPARISONS[self.compare](np.diff(times, prepend=earlier), self.ns)
        if chunk.time_before == NEVER:
            meets[0] = False
        mask = np.zeros(len(chunk), np.bool_)
        mask[chunk.order] = meets
        return mask


@dataclass(frozen=True)
class At:
    """``at:``: a span in time since the recording's start; None is open."""

    start_ns: int | None
    end_ns: int | None

    def find(self, chunk: Chunk, scene: Scene) -> Mask:
        """Rows within it, both ends included."""
        mask = np.ones(len(chunk), np.bool_)
        if self.start_ns is not None:
            mask &= chunk.batch.time >= scene.start + self.start_ns
        if self.end_ns is not None:
            mask &= chunk.batch.time <= scene.start + self.end_ns
        return mask
