"""What an ask means, as a tree.

Each node answers twice. `Node.decide` says for whole identifiers, from what is known of them, that none or all of
their frames match, so that most need not be looked at. `Node.find` looks at the rows that are left.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

import numpy as np
import numpy.typing as npt

from keel.model.frames import Mask, Times
from keel.signals.book import Book
from keel.store.chunk import Chunk

NONE, SOME, ALL = 0, 1, 2
"""No frame of an identifier matches, some may, all do. *And* is the least, *or* the greatest, *not* turns round."""
Verdicts = npt.NDArray[np.int8]


class Crossing(Protocol):
    """Says when channels cross a voltage."""

    def times(self, channel: str, volts: float, rises: bool) -> Times:
        """When a channel crosses a voltage, in ns, ascending."""


@dataclass(frozen=True)
class Scene:
    """What an ask may refer to: bus names in index order, what is known of identifiers, when time is 0, the media of
    the buses, the channels whose waveforms are kept, and when these cross a voltage."""

    buses: tuple[str, ...] = ()
    book: Book = field(default_factory=Book)
    zero: int = 0
    media: frozenset[str] = frozenset()
    channels: tuple[str, ...] = ()
    crossings: Crossing | None = field(default=None, compare=False)


@dataclass(frozen=True, eq=False)
class Scope:
    """Where an ask is run: one chunk, and the chunks about it for conditions that look back or ahead."""

    chunks: Sequence[Chunk]
    place: int
    scene: Scene
    known: dict[Any, Mask] = field(default_factory=dict)

    @property
    def chunk(self) -> Chunk:
        """The chunk that is asked about."""
        return self.chunks[self.place]

    def at(self, place: int) -> Scope:
        """The same about another chunk."""
        return Scope(self.chunks, place, self.scene, self.known)

    def mask(self, node: Node) -> Mask:
        """Which stored rows of the chunk match, shape (n,). Kept for the next who asks."""
        name = (node, self.chunk.serial)
        if name not in self.known:
            mask = np.zeros(len(self.chunk), np.bool_)
            for low, high, verdict in stretches(self.chunk, node.decide(self)):
                mask[low:high] = True if verdict == ALL else node.find(self, low, high)
            self.known[name] = mask
        return self.known[name]


class Node(Protocol):
    """A condition."""

    def decide(self, scope: Scope) -> Verdicts:
        """`NONE`, `SOME` or `ALL` for each run of the chunk, shape (r,)."""

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Which of the stored rows ``low`` to ``high`` meet it, shape (high - low,)."""

    def reach(self) -> tuple[int, int]:
        """How far, in ns, what lies before and after a frame matters to it."""

    def __str__(self) -> str:
        """The condition as an ask; reading it gives the same condition."""


def stretches(chunk: Chunk, verdicts: Verdicts) -> list[tuple[int, int, int]]:
    """Neighbouring runs of one verdict as row ranges, those of `NONE` left out."""
    edges = np.flatnonzero(np.diff(verdicts)) + 1
    starts = np.concatenate([[0], edges])
    ends = np.concatenate([edges, [len(verdicts)]])
    rows = chunk.starts
    return [
        (int(rows[a]), int(rows[b]), int(verdicts[a])) for a, b in zip(starts, ends, strict=True) if verdicts[a] != NONE
    ]


class Plain:
    """A condition on a frame alone: it must be looked at, and nothing about it matters."""

    def decide(self, scope: Scope) -> Verdicts:
        """Nothing is known."""
        return np.full(len(scope.chunk.keys), SOME, np.int8)

    def reach(self) -> tuple[int, int]:
        """Nothing before or after matters."""
        return 0, 0


TERM, ALL_OF, ANY_OF, IN_TURN = range(4)
"""How loosely the parts of a condition hang together: whatever is looser stands in parentheses."""


def looseness(node: Node) -> int:
    """How loosely the parts of a condition hang together."""
    return getattr(node, "loose", TERM)


def enclosed(node: Node, most: int) -> str:
    """A condition as a part of an ask in which nothing looser may stand bare."""
    return f"({node})" if looseness(node) > most else str(node)


@dataclass(frozen=True)
class Everything(Plain):
    """The empty ask."""

    def __str__(self) -> str:
        return ""

    def decide(self, scope: Scope) -> Verdicts:
        """All."""
        return np.full(len(scope.chunk.keys), ALL, np.int8)

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """All rows."""
        return np.ones(high - low, np.bool_)


@dataclass(frozen=True)
class Nothing(Plain):
    """What an ask that cannot be used leaves; it is never written."""

    def decide(self, scope: Scope) -> Verdicts:
        """None."""
        return np.full(len(scope.chunk.keys), NONE, np.int8)

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """No rows."""
        return np.zeros(high - low, np.bool_)


class _Joined:
    """Several conditions together."""

    parts: tuple[Node, ...]
    join: Callable[[Verdicts, Verdicts], Verdicts]

    def decide(self, scope: Scope) -> Verdicts:
        """What the parts know, together."""
        verdicts = self.parts[0].decide(scope)
        for part in self.parts[1:]:
            verdicts = type(self).join(verdicts, part.decide(scope))
        return verdicts

    def reach(self) -> tuple[int, int]:
        """The farthest of the parts."""
        reaches = [part.reach() for part in self.parts]
        return max(r[0] for r in reaches), max(r[1] for r in reaches)


@dataclass(frozen=True)
class All(_Joined):
    """Every part holds. Later parts are not looked at when none is left."""

    parts: tuple[Node, ...]
    join = np.minimum
    loose = ALL_OF

    def __str__(self) -> str:
        return " ".join(enclosed(part, TERM) for part in self.parts)

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows that every part finds."""
        mask = self.parts[0].find(scope, low, high)
        for part in self.parts[1:]:
            if not mask.any():
                break
            mask = mask & part.find(scope, low, high)
        return mask


@dataclass(frozen=True)
class Any_(_Joined):
    """At least one part holds."""

    parts: tuple[Node, ...]
    join = np.maximum
    loose = ANY_OF

    def __str__(self) -> str:
        return " or ".join(enclosed(part, ALL_OF) for part in self.parts)

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows that any part finds."""
        mask = self.parts[0].find(scope, low, high)
        for part in self.parts[1:]:
            mask = mask | part.find(scope, low, high)
        return mask


@dataclass(frozen=True)
class Not:
    """The part does not hold."""

    part: Node

    def __str__(self) -> str:
        return f"not {enclosed(self.part, TERM)}"

    def decide(self, scope: Scope) -> Verdicts:
        """The other way round."""
        return np.int8(ALL) - self.part.decide(scope)

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows that the part does not find."""
        return ~self.part.find(scope, low, high)

    def reach(self) -> tuple[int, int]:
        """The part's."""
        return self.part.reach()


def all_of(*parts: Node) -> Node:
    """What meets every part. Parts that say the same twice, or nothing, are left out."""
    return _joined(All, parts)


def any_of(*parts: Node) -> Node:
    """What meets at least one part."""
    return _joined(Any_, parts)


def _joined(kind: type[All | Any_], parts: Sequence[Node]) -> Node:
    flat: list[Node] = []
    for part in parts:
        inner = part.parts if isinstance(part, kind) else (part,)
        if kind is Any_ and Everything() in inner:
            return Everything()
        flat += [one for one in inner if one not in flat and not isinstance(one, Everything)]
    return flat[0] if len(flat) == 1 else kind(tuple(flat)) if flat else Everything()
