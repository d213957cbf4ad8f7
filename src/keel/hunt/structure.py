"""What a payload is made of, seen from the traffic alone: fields, their kinds, checksums, counters, pages."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from keel.hunt.checksums import Checksum, find_checksum, wrong
from keel.hunt.columns import Column
from keel.hunt.counters import Counter, find_counters, skips
from keel.hunt.segments import cut
from keel.hunt.selectors import Selector, find_selector
from keel.hunt.signedness import looks_signed
from keel.hunt.texts import find_texts
from keel.hunt.transitions import Transitions, transitions
from keel.model.fields import BitField, extract
from keel.model.frames import Bytes, Mask
from keel.model.identity import unpack_key
from keel.signals.dictionary import Role


@dataclass(frozen=True)
class Piece:
    """A field of a payload: its kind, how it is made if that is known, and its page if it has one.

    ``moving`` are the bits that took both values. ``header`` names the field of the header that it is, if it is none of
    the payload.
    """

    field: BitField
    kind: Role
    algorithm: str = ""
    page: int | None = None
    moving: tuple[int, ...] = ()
    header: str = ""


@dataclass(frozen=True, eq=False)
class Structure:
    """What an identifier's payload is made of."""

    key: int
    pieces: tuple[Piece, ...]
    checksum: Checksum | None
    counters: tuple[Counter, ...]
    selector: Selector | None

    def rows_of(self, page: int | None, payloads: Bytes) -> npt.NDArray[np.bool_]:
        """Which payloads (n, bytes) carry the fields of a page."""
        if page is None or self.selector is None:
            return np.ones(len(payloads), np.bool_)
        return np.asarray(extract(self.selector.field, payloads) == page)

    @property
    def numbers(self) -> list[Piece]:
        """The fields that may carry something: values and flags."""
        return [p for p in self.pieces if p.kind in ("value", "flag")]


def structures_of(columns: dict[int, Column], cancelled: Callable[[], bool] = lambda: False) -> dict[int, Structure]:
    """The structure of each identifier; of as many as were done when it was cancelled."""
    found = {}
    for key, column in columns.items():
        if cancelled():
            break
        found[key] = structure_of(column)
    return found


def structure_of(column: Column) -> Structure:
    """The structure of an identifier's payloads.

    Counters, checksum and selector come first: they can be told by predicting them exactly. What is left is cut
    into fields, page by page.
    """
    rows = column.consecutive
    size = rows.shape[1] * 8
    if not len(rows) or not size:
        return Structure(column.key, (), None, (), None)
    counters = find_counters(rows)
    checksum = find_checksum(rows, unpack_key(column.key)[2], [c.field for c in counters])
    spoken_for = np.zeros(size, np.bool_)
    if checksum is not None:
        spoken_for[list(checksum.field.bits)] = True
        counters = [c for c in counters if not spoken_for[list(c.field.bits)].any()]
    selector = find_selector(rows, spoken_for, [c.field for c in counters])
    if selector is not None:
        counters = [c for c in counters if set(c.field.bits).isdisjoint(selector.field.bits)]
        spoken_for[list(selector.field.bits)] = True
    for counter in counters:
        spoken_for[list(counter.field.bits)] = True
    everything = _moving(rows)
    pieces: list[Piece] = []
    if checksum is not None:
        counts = extract(counters[0].field, column.payloads) if counters else None
        bad = int(np.count_nonzero(wrong(checksum, column.payloads, counts)))
        words = checksum.algorithm + (f"; wrong in {bad} of {len(column.payloads)} frames" if bad else "")
        pieces.append(_piece(checksum.field, "checksum", everything, words))
    for counter in counters:
        missed = int(np.count_nonzero(skips(counter, rows)))
        words = counter.algorithm + (f"; {missed} skips in {len(rows)} frames" if missed else "")
        pieces.append(_piece(counter.field, "counter", everything, words))
    if selector is not None:
        words = "pages " + ", ".join(map(str, selector.pages))
        pieces.append(_piece(selector.field, "selector", everything, words))
        pages = extract(selector.field, rows)
        for page in selector.pages:
            pieces += _fields(rows[pages == page], ~selector.paged | spoken_for, page)
        spoken_for = spoken_for | selector.paged
    pieces += _fields(rows, spoken_for, None)
    pieces += _constants(pieces, everything, size)
    pieces.sort(key=lambda p: (-1 if p.page is None else p.page, min(p.field.bits)))
    return Structure(column.key, tuple(pieces), checksum, tuple(counters), selector)


def _moving(rows: Bytes) -> Mask:
    """The bits that take both values."""
    both = np.bitwise_or.reduce(rows, axis=0) ^ np.bitwise_and.reduce(rows, axis=0)
    return np.unpackbits(both, bitorder="little").astype(np.bool_)


def _piece(field: BitField, kind: Role, moves: Mask, algorithm: str = "", page: int | None = None) -> Piece:
    return Piece(field, kind, algorithm, page, tuple(b for b in field.bits if moves[b]))


def _fields(rows: Bytes, spoken_for: Mask, page: int | None) -> list[Piece]:
    """The fields in what is not spoken for."""
    if len(rows) < 2:
        return []
    pieces = []
    texts = find_texts(rows, spoken_for)
    left = spoken_for.copy()
    for text in texts:
        left[list(text.bits)] = True
        pieces.append(_piece(text, "text", _moving(rows), "ASCII", page))
    steps = transitions(rows, left)
    moves = steps.flips > 0
    for field in cut(steps, moves):
        pieces.append(_number(field, rows, steps, moves, page))
    return pieces


def _number(field: BitField, rows: Bytes, steps: Transitions, moves: Mask, page: int | None) -> Piece:
    if field.length == 1:
        return _piece(field, "flag", moves, page=page)
    signed = looks_signed(field, rows)
    return _piece(BitField(field.start, field.length, field.order, signed), "value", moves, page=page)


def _constants(pieces: list[Piece], everything: Mask, size: int) -> list[Piece]:
    """Runs of bits, within bytes, that never move and lie in no field."""
    taken = everything.copy()
    for piece in pieces:
        taken[list(piece.field.bits)] = True
    found = []
    bit = 0
    while bit < size:
        end = bit
        while end < size and not taken[end] and end // 8 == bit // 8:
            end += 1
        if end > bit:
            found.append(Piece(BitField(bit, end - bit), "constant"))
        bit = max(end, bit + 1)
    return found
