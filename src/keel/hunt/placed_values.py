"""Places in payloads where a number may stand, with all that was ever said there; and how surprising it is that a
certain number is among that."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from keel.hunt.carriers import constant_above
from keel.hunt.columns import Column
from keel.hunt.encodings import ENCODINGS, FLOATING, Encoding, Typed
from keel.hunt.snapping import ways_to_read
from keel.hunt.structure import Piece, Structure
from keel.hunt.traffic import Traffic
from keel.model.fields import BitField, Order, extract
from keel.model.frames import Bytes, Mask, Times
from keel.model.units import NS_PER_S

BEFORE_S, AFTER_S = 1.2, 0.4
"""A person notes a value late; a display shows it late."""
MOST_ROWS = 20_000
"""Of an identifier with more frames so many are looked at, and all about the time in question."""
WIDTHS = (1, 2, 3, 4, 8)
WIDE_COST = {1: 0.4, 2: 0.3, 3: 0.4, 4: 0.5, 8: 1.0}
"""Whole bytes beside a field that the structure shows, in nats."""
A_LETTER = 3.0
"""What each letter of a text says, in nats: some letters follow others."""
A_FLOAT = 4.0
"""Few bit patterns are floating-point numbers of a size that means something."""
LONGEST_TEXT = 8
LOWEST, FEW_BITS = 8, 4
"""A number may move in coarse steps: so many of its lowest bits may stand still."""

Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]
Numbers = npt.NDArray[Any]
"""Whole numbers, or floating-point ones."""


@dataclass(frozen=True)
class Spot:
    """Where it stands: a field that holds it, how surprising that is, what it holds, and in what share of frames."""

    key: int
    page: int | None
    field: BitField
    nats: float
    holds: str
    share: float
    encoding: Encoding | None
    header: str = ""

    @property
    def piece(self) -> Piece:
        """As a piece of the structure."""
        return Piece(self.field, "text" if self.encoding is None else "value", page=self.page, header=self.header)

    def read(self, payloads: Bytes) -> Ints:
        """Its raw values."""
        return extract(self.field, payloads)


@dataclass(frozen=True, eq=False)
class Sought:
    """Numbers as bounds: raw in each usual encoding (n, encodings, 2), and as floating point (n, 1, 2)."""

    raw: Ints
    floats: Floats

    @classmethod
    def of(cls, numbers: list[Typed]) -> Sought:
        """The bounds of numbers as they were typed."""
        raw = np.array([[e.raw(n.low, n.high) for e in ENCODINGS] for n in numbers], np.int64)
        slack = [1e-6 * max(abs(n.value), 1e-3) for n in numbers]
        floats = np.array([[[n.low - more, n.high + more]] for n, more in zip(numbers, slack, strict=True)])
        return cls(raw, floats)


@dataclass(frozen=True, eq=False)
class Place:
    """A field, and all it said.

    Attributes:
        values: Different values, ascending; shape (m,). Of a floating-point field the numbers themselves.
        near, far: How often each was said about the time in question, and otherwise; shape (m,).
        is_a_field: Whether the structure shows it, rather than that it is whole bytes.
        cost: What it costs beside one that the structure shows, in nats.
        timed: Whether a time is in question.
    """

    key: int
    page: int | None
    field: BitField
    values: Numbers
    near: Ints
    far: Ints
    is_a_field: bool
    cost: float
    timed: bool
    header: str = ""

    @property
    def is_float(self) -> bool:
        """Whether it is read as floating point."""
        return self.values.dtype.kind == "f"

    @cached_property
    def _sums(self) -> tuple[Ints, Ints]:
        return np.concatenate([[0], np.cumsum(self.near)]), np.concatenate([[0], np.cumsum(self.far)])

    def score(self, sought: Sought) -> tuple[Floats, Spot | None]:
        """How surprising it is to find each number here, in nats (n,), -1 where it is not; and the first one's spot."""
        encodings = (FLOATING,) if self.is_float else ENCODINGS
        bounds: Numbers = sought.floats if self.is_float else self._raw(sought.raw)
        low = np.searchsorted(self.values, bounds[..., 0], "left")
        high = np.searchsorted(self.values, bounds[..., 1], "right")
        near, far = (sums[high] - sums[np.minimum(low, high)] for sums in self._sums)
        there = (high > low) & (near > 0)
        if not there.any():
            return np.full(len(bounds), -1.0), None
        costs = np.array([e.cost for e in encodings]) + self.cost
        nats = np.where(there, self._surprise(bounds, near, far) - costs, -1.0)
        best = nats[0].argmax()
        spot = None
        if nats[0, best] > 0:
            encoding = encodings[int(best)]
            held = self.values[low[0, best]]
            holds = (
                f"{held:g}" if self.is_float else f"{int(held):X} hex" if encoding.decimals is not None else str(held)
            )
            share = float((near[0, best] + far[0, best]) / (self.near.sum() + self.far.sum()))
            spot = Spot(
                self.key,
                self.page,
                self._signed(sought, int(best)),
                float(nats[0, best]),
                holds,
                share,
                encoding,
                self.header,
            )
        return nats.max(axis=1), spot

    def _signed(self, sought: Sought, encoding: int) -> BitField:
        """The field, signed where the first number was taken for a negative one."""
        field = self.field
        below_zero = not self.is_float and not field.signed and sought.raw[0, encoding, 1] < 0
        return BitField(field.start, field.length, field.order, True) if below_zero else field

    def _raw(self, raw: Ints) -> Ints:
        """Bounds as this field holds them: below zero as two's complement, where it fits."""
        bits = self.field.length
        if self.field.signed or bits > 62:
            return raw
        below = raw[..., 1] < 0
        fits = below & (raw[..., 0] >= -(1 << bits - 1))
        moved = raw + (fits.astype(np.int64) << bits)[..., None]
        return np.where((below & ~fits)[..., None], np.array([1, 0]), moved)

    def _surprise(self, bounds: Numbers, near: Ints, far: Ints) -> Floats:
        """How unlikely it is that a number is among what was said here, in nats."""
        width = np.maximum(bounds[..., 1] - bounds[..., 0] + (0 if self.is_float else 1), 1e-12)
        size = np.maximum(np.abs(bounds).max(axis=-1), 1e-6)
        if self.timed and len(self.values) > 1:
            # By how often it is said otherwise, for each of the values said about then.
            share = (far + 0.5) / (self.far.sum() + 1) * np.count_nonzero(self.near)
            return np.asarray(np.maximum(-np.log(np.maximum(share, 1e-9)), 0.0))
        # The less of all that it could hold it did hold, the more it says that this is among it.
        reach = np.maximum(float(self.values[-1]) - float(self.values[0]), size)
        surprise = np.log(np.maximum(reach / (width * len(self.values)), 1e-9))
        return np.asarray(np.maximum(surprise + (A_FLOAT if self.is_float else 0.0), 0.0))

    def imagined_score(self, random: np.random.Generator, number: Typed) -> float:
        """What a value that it does hold would score, in a scale drawn at random, typed with as many decimals."""
        weights = np.exp([-e.cost for e in ENCODINGS])
        encoding = ENCODINGS[int(random.choice(len(ENCODINGS), p=weights / weights.sum()))]
        held = np.flatnonzero(self.near)
        if self.is_float or not len(held):
            return -1.0
        raw = float(self.values[int(random.choice(held))])
        value = round(raw * encoding.scale + encoding.offset, number.decimals)
        return float(self.score(Sought.of([Typed(str(value), value, number.decimals)]))[0][0])


def places_of(traffic: Traffic, at: int | None, cancelled: Callable[[], bool] = lambda: False) -> Iterator[Place]:
    """All places a number may stand: fields of the structure, and whole bytes, page by page.

    One after another: what was said at all of them together may be more than memory holds.
    """
    for key, column in traffic.columns.items():
        if cancelled():
            break
        for one in traffic.headers.get(key, {}).values():
            near = near_rows(one.times, at)
            if near.any():
                yield replace(_place(key, None, one.field, one.raw, near, True, 0.0, at is not None), header=one.header)
        structure = traffic.structures.get(key)
        if structure is None or not column.payloads.shape[1]:
            continue
        for page in (None,) if structure.selector is None else structure.selector.pages:
            rows = np.flatnonzero(structure.rows_of(page, column.payloads))
            near = near_rows(column.times, at)[rows]
            if len(rows) > MOST_ROWS:
                some = np.zeros(len(rows), np.bool_)
                some[:: len(rows) // MOST_ROWS + 1] = True
                some |= near if at is not None else False
                rows, near = rows[some], near[some]
            if not near.any():
                continue
            payloads = column.payloads[rows]
            timed = at is not None
            for field in _fields(structure, column, page):
                yield _place(key, page, field, extract(field, payloads), near, True, 0.0, timed)
            for field in _whole_bytes(structure, page, payloads.shape[1]):
                cost = WIDE_COST[field.length // 8]
                yield _place(key, page, field, extract(field, payloads), near, False, cost, timed)
                floats = _as_floats(payloads, field)
                if floats is not None:
                    yield _place(key, page, field, floats, near, False, 0.5, timed)


def _fields(structure: Structure, column: Column, page: int | None) -> Iterator[BitField]:
    """The fields of a page that move, and the same with what stands still above them."""
    for piece in structure.numbers:
        if piece.page not in (None, page) or not piece.moving:
            continue
        yield piece.field
        plain = BitField(piece.field.start, piece.field.length, piece.field.order)
        for field, added in ways_to_read(plain, *constant_above(structure, column, piece)):
            if added > 0:
                yield field


def _whole_bytes(structure: Structure, page: int | None, size: int) -> Iterator[BitField]:
    """Whole bytes that cut through no field of a page, and hold no counter or checksum."""
    mine = [p for p in structure.pieces if p.page in (None, page) and p.moving]
    guards = {b for p in mine if p.kind in ("counter", "checksum", "selector") for b in p.field.bits}
    numbers = [set(p.field.bits) for p in mine if p.kind not in ("counter", "checksum", "selector")]
    whole = {p.field for p in mine}
    orders: tuple[Order, ...] = ("little", "big")
    for width in WIDTHS:
        for first in range(size - width + 1):
            bits = set(range(8 * first, 8 * (first + width)))
            inside = [n for n in numbers if n & bits]
            if bits & guards or not all(n <= bits for n in inside):
                continue
            for order in orders[: 1 if width == 1 else 2]:
                field = BitField(first * 8 + (7 if order == "big" else 0), width * 8, order)
                if field not in whole and _moves_below(field, inside):
                    yield field


def _moves_below(field: BitField, inside: list[set[int]]) -> bool:
    """Whether what moves in a field are its lower bits, in one piece: no number moves above what stands still.

    The lowest few bits of a number may look like a field of their own.
    """
    if not inside:
        return True
    places = sorted((min(map(field.bits.index, piece)), len(piece)) for piece in inside)
    if len(places) == 2 and places[0][1] <= FEW_BITS and sum(places[0]) == places[1][0]:
        return places[0][0] < LOWEST
    return len(places) == 1 and places[0][0] < LOWEST


def _as_floats(payloads: Bytes, field: BitField) -> Floats | None:
    """The numbers of four or eight bytes as IEEE 754 floating point; None where they make no sense as such."""
    if field.length not in (32, 64) or field.start % 8 not in (0, 7):
        return None
    first, width = field.start // 8, field.length // 8
    part = np.ascontiguousarray(payloads[:, first : first + width])
    raw = part.view(f"{'<' if field.order == 'little' else '>'}f{width}")[:, 0]
    with np.errstate(invalid="ignore", over="ignore"):
        values = raw.astype(np.float64)
        sane = np.isfinite(values) & ((values == 0) | ((np.abs(values) > 1e-6) & (np.abs(values) < 1e12)))
    return values if sane.all() and values.any() else None


def _place(
    key: int, page: int | None, field: BitField, raw: Numbers, near: Mask, known: bool, cost: float, timed: bool
) -> Place:
    values, which = np.unique(raw, return_inverse=True)
    count = len(values)
    near_counts = np.bincount(which[near], minlength=count)
    far_counts = np.bincount(which, minlength=count) - near_counts
    return Place(key, page, field, values, near_counts, far_counts, known, cost, timed)


def near_rows(times: Times, at: int | None) -> Mask:
    """The frames about a time; all without one. What is sent seldom still holds what it said last."""
    if at is None:
        return np.ones(len(times), np.bool_)
    near: Mask = (times >= at - int(BEFORE_S * NS_PER_S)) & (times <= at + int(AFTER_S * NS_PER_S))
    last = int(np.searchsorted(times, at, side="right")) - 1
    if not near.any() and last >= 0:
        near[last] = True
    return near


def spots_of_text(
    columns: dict[int, Column], text: str, at: int | None, cancelled: Callable[[], bool] = lambda: False
) -> list[Spot]:
    """Where a text stands, byte by byte; of a long one its first eight letters."""
    wanted = text.encode("ascii", "ignore")[:LONGEST_TEXT]
    found: list[Spot] = []
    if len(wanted) < 2 or not text.isascii():
        return found
    for key, column in columns.items():
        if cancelled():
            break
        near = near_rows(column.times, at)
        for first in range(column.payloads.shape[1] - len(wanted) + 1):
            hits = (column.payloads[:, first : first + len(wanted)] == np.frombuffer(wanted, np.uint8)).all(axis=1)
            if (hits & near).any():
                nats = A_LETTER * len(wanted)
                field = BitField(first * 8, len(wanted) * 8)
                said = wanted.decode("ascii")
                found.append(Spot(key, None, field, nats, f"“{said}” as text", float(hits.mean()), None))
    return found
