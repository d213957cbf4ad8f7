"""Marked spans, where they are and where they might as well have been: what fits elsewhere, too, fits by chance.

Half of the other places are about where the marks are, half anywhere: a vehicle that is driven while somebody presses
its buttons has fields that move just then, and an hour in which it stands has none.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from keel.model.span import Span
from keel.model.units import NS_PER_S

EDGE_S = 0.6
"""Nobody marks earlier or later than that: half a second, and a tenth for the device to answer."""
PLACES = 240
EXAMPLES = 360
ABOUT_S = 20.0
"""About the marks: so many seconds before and after, or half as long as they take."""

MARGIN_S = 1.0
"""What happens within so much of a span is no example of what happens elsewhere."""

Floats = npt.NDArray[np.float64]
Weights = npt.NDArray[np.float32]


@dataclass(frozen=True, eq=False)
class Marked:
    """Spans, and the same spans elsewhere; the first row is where they are.

    Attributes:
        starts, ends: Seconds from the start of the traffic, shape (1 + `PLACES`, spans), ascending in each row.
        length: Seconds of traffic.
    """

    starts: Floats
    ends: Floats
    length: float

    @property
    def count(self) -> int:
        """How many spans."""
        return int(self.starts.shape[1])

    @cached_property
    def earliest(self) -> Floats:
        """When what belongs to each span begins at the earliest: in the midst between it and the one before."""
        found = self.starts - EDGE_S
        found[:, 1:] = np.maximum(found[:, 1:], (self.starts[:, 1:] + self.ends[:, :-1]) / 2)
        return np.asarray(found)

    @cached_property
    def latest(self) -> Floats:
        """When what belongs to each span is over at the latest."""
        found = self.ends + EDGE_S
        found[:, :-1] = np.minimum(found[:, :-1], (self.starts[:, 1:] + self.ends[:, :-1]) / 2)
        return np.asarray(found)

    @property
    def _every(self) -> int:
        """Of many spans elsewhere every second, third ... is an example."""
        return -(-PLACES // 2 * self.count // EXAMPLES)

    @cached_property
    def _others(self) -> tuple[tuple[Weights, Floats, Floats], ...]:
        """Near and anywhere: which spans lie clear of each place (places, spans elsewhere), how many of them that are,
        and how many of those say something of their own."""
        found = []
        for low, high in ((self.starts[2::2], self.ends[2::2]), (self.starts[1::2], self.ends[1::2])):
            a, b = (x.ravel()[:: self._every] for x in (low - MARGIN_S, high + MARGIN_S))
            clear = np.ones((len(self.starts), len(a)), np.bool_)
            for start, end in zip(self.starts.T, self.ends.T, strict=True):
                clear &= (b[None, :] <= start[:, None]) | (a[None, :] >= end[:, None])
            count = clear.sum(axis=1).astype(np.float64)
            size = float((high - low).mean()) + MARGIN_S
            room = max(float(high.max() - low.min()) - self.count * size, size) / size
            found.append((clear.astype(np.float32), count, np.minimum(count, room)))
        return tuple(found)

    def rate(self, hits: npt.NDArray[np.bool_], expected: float) -> Floats:
        """How often something is done at spans elsewhere, seen from each place of the marks.

        Args:
            hits: Whether it is done, shape (places, spans).
            expected: How often it would be, from how often it turns at all: this counts as one span more.

        Returns:
            Shares from 0 to 1, shape (places,): the greater of near and anywhere.
        """
        shares = []
        for (clear, count, room), done in zip(self._others, (hits[2::2], hits[1::2]), strict=True):
            seen = (clear @ done.ravel()[:: self._every].astype(np.float32)) / np.maximum(count, 1)
            shares.append((seen * room + expected) / (room + 1))
        return np.asarray(np.maximum(*shares), np.float64)


def placed(spans: list[Span], start: int, end: int) -> Marked:
    """The spans as they are, and elsewhere.

    Args:
        spans: Ascending, shape as marked; times in ns since 1970.
        start, end: Of the traffic.
    """
    length = (end - start) / NS_PER_S
    low = np.array([(s.start - start) / NS_PER_S for s in spans])
    high = np.array([(s.end - start) / NS_PER_S for s in spans])
    return marked_at(low, high, length)


def marked_at(low: Floats, high: Floats, length: float) -> Marked:
    """The same, of spans in seconds from the start of the traffic."""
    random = np.random.default_rng(len(low))
    sizes = np.minimum(high - low, length / (2 * len(low)))
    about = max(ABOUT_S, (high[-1] - low[0]) / 2)
    near = max(low[0] - about, 0.0), min(high[-1] + about, length)
    rows = [low]
    ends = [high]
    for place in range(PLACES):
        order = random.permutation(len(low))
        if place % 2:
            begins = _between(random, sizes[order], *near)
        else:
            begins = _elsewhere(random, low, high, sizes[order], length)
        rows.append(begins)
        ends.append(begins + sizes[order])
    return Marked(np.stack(rows), np.stack(ends), length)


def _between(random: np.random.Generator, sizes: Floats, low: float, high: float) -> Floats:
    """Spans of these sizes somewhere between two moments, none over another."""
    free = max(high - low - float(sizes.sum()), 0.0)
    begins = np.sort(random.uniform(0, free, len(sizes)))
    return np.asarray(low + begins + np.concatenate([[0.0], np.cumsum(sizes[:-1])]))


def _elsewhere(random: np.random.Generator, low: Floats, high: Floats, sizes: Floats, length: float) -> Floats:
    """The spans as far from each other as they are, about, in another order and another part of the recording."""
    gaps = random.permutation(np.maximum(low[1:] - high[:-1], 0.0)) * random.uniform(0.6, 1.4, len(low) - 1)
    steps = np.concatenate([[0.0], np.cumsum(sizes[:-1] + gaps)])
    room = length - steps[-1] - sizes[-1]
    if room <= 0:
        return _between(random, sizes, 0.0, length)
    return np.asarray(random.uniform(0, room) + steps)
