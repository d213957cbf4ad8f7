"""The terms of an ask that concern one frame alone."""

from __future__ import annotations

import operator
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from keel.ask.nodes import ALL, NONE, SOME, Plain, Scene, Scope, Verdicts
from keel.ask.patterns import find_pattern
from keel.ask.times import time_text
from keel.media.every import form_of, read_ident, read_range
from keel.model.faults import fault_words
from keel.model.frames import Flag, Mask
from keel.model.globs import Glob, quoted
from keel.model.identity import IDENT_BITS, IDENT_MASK, NO_IDENT, Keys

COMPARISONS: dict[str, Callable[[Any, Any], Any]] = {
    ">": operator.gt,
    ">=": operator.ge,
    "<": operator.lt,
    "<=": operator.le,
    "=": operator.eq,
    "!=": operator.ne,
}


WITHOUT = "none"
ANY_FAULT = 0xFFFFFFFFFFFFFFFF


class PerKey(Plain):
    """A condition that the key alone decides: one look per identifier, not per row."""

    def decide(self, scope: Scope) -> Verdicts:
        """All frames of the keys that are wanted."""
        return np.where(self.chosen(scope.scene, scope.chunk.keys), ALL, NONE).astype(np.int8)

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows of the keys that are wanted."""
        starts = np.clip(scope.chunk.starts, low, high)
        return np.repeat(self.decide(scope) == ALL, np.diff(starts))

    def chosen(self, scene: Scene, keys: Keys) -> Any:
        """Which keys are wanted, shape (r,)."""
        raise NotImplementedError


@dataclass(frozen=True)
class IdRange:
    """Identifiers from ``low`` to ``high`` whose bits under ``mask`` equal ``low``'s.

    How many digits are typed tells forms apart that are always written with so many: ``form`` is the one that is
    meant, None if none is. Identifiers of forms without a fixed width are meant by their number alone. Of the form
    `NO_IDENT` it stands for frames without an identifier. What is not written in hex digits alone, as device addresses
    and endpoints, stands in ``text``: forms that write identifiers so read it.
    """

    low: int
    high: int
    mask: int | None
    form: int | None
    text: str = ""

    def among(self, form: int, idents: Keys) -> Any:
        """Which identifiers of a form are in it; of the shape of ``idents``, or for all."""
        known = form_of(form)
        if NO_IDENT in (form, self.form):
            return form == self.form
        if self.text and (read := read_ident(known, self.text)) is not None:
            return (idents & np.uint64(read[1])) == np.uint64(read[0] & read[1])
        if self.text and (ends := read_range(known, self.text)) is not None:
            return (idents >= np.uint64(ends[0])) & (idents <= np.uint64(ends[1]))
        if known.read is not None or (self.form is not None and form != self.form and known.digits):
            return False
        if self.mask is not None:
            # What was not typed is 0.
            open_ = (self.mask | ~self._typed) & 0xFFFF_FFFF_FFFF_FFFF
            return (idents & np.uint64(open_)) == np.uint64(self.low)
        return (idents >= np.uint64(self.low)) & (idents <= np.uint64(self.high))

    def wants(self, form: int, ident: int) -> bool:
        """Whether the identifier is in it."""
        return bool(np.all(self.among(form, np.array([ident], np.uint64))))

    @property
    def _typed(self) -> int:
        """The bits that can be typed."""
        return (1 << 4 * form_of(self.form).digits) - 1 if self.form is not None else IDENT_MASK

    def __str__(self) -> str:
        if self.form == NO_IDENT:
            return WITHOUT
        if self.text and (".." in self.text or (self.low > self.high and self.mask is None)):
            # As it was typed: other forms read it in another way than in hex.
            return f'"{self.text}"' if " " in self.text else self.text
        digits = form_of(self.form).digits if self.form is not None else 0
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

    def chosen(self, scene: Scene, keys: Keys) -> Any:
        """Those that any of the ranges has."""
        forms, idents = (keys >> np.uint64(IDENT_BITS)).astype(np.uint8), keys & np.uint64(IDENT_MASK)
        chosen = np.zeros(len(keys), np.bool_)
        for form in np.unique(forms).tolist():
            of_form = np.flatnonzero(forms == form)
            for one in self.ranges:
                chosen[of_form] |= one.among(form, idents[of_form])
        return chosen


@dataclass(frozen=True)
class Buses(PerKey):
    """``bus:``, with ``*`` and ``?`` for what may vary."""

    patterns: tuple[Glob, ...]

    def __str__(self) -> str:
        return "bus:" + ",".join(map(str, self.patterns))

    def meant(self, scene: Scene) -> frozenset[str]:
        """The names of the buses that are meant."""
        return frozenset().union(*(pattern.among(scene.buses) for pattern in self.patterns))

    def chosen(self, scene: Scene, keys: Keys) -> Any:
        """Those whose bus has one of the names."""
        meant = self.meant(scene)
        indices = [index for index, name in enumerate(scene.buses) if name in meant]
        return np.isin(keys >> np.uint64(56), np.array(indices, np.uint64))


@dataclass(frozen=True)
class Names(PerKey):
    """``name:``, with ``*`` and ``?`` for what may vary."""

    patterns: tuple[Glob, ...]

    def __str__(self) -> str:
        return "name:" + ",".join(map(str, self.patterns))

    def meant(self, scene: Scene) -> frozenset[str]:
        """The names of the messages that are meant."""
        return frozenset().union(*(pattern.among(scene.book.message_names) for pattern in self.patterns))

    def chosen(self, scene: Scene, keys: Keys) -> Any:
        """Those whose message has one of the names."""
        meant = self.meant(scene)
        named = scene.book.messages(keys.tolist())
        return np.array([key in named and named[key].name in meant for key in keys.tolist()], np.bool_)


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
        lengths[batch.form[low:high] == NO_IDENT] = 0
        mask: Mask = COMPARISONS[self.compare](lengths, self.value)
        return mask


@dataclass(frozen=True)
class HasData(Plain):
    """``data``: any payload at all, of whatever kind of line. Details of an error frame are none."""

    def __str__(self) -> str:
        return "data"

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows that carry data."""
        batch = scope.chunk.batch
        there: Mask = (np.diff(batch.offsets[low : high + 1]) > 0) & (batch.form[low:high] != NO_IDENT)
        return there


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
        never = (summary.fault_mask & np.uint64(self.mask)) == 0
        always = (summary.faulty == summary.frames) & (self.mask == ANY_FAULT)
        return np.where(never, NONE, np.where(always, ALL, SOME)).astype(np.int8)

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows with any of the faults."""
        mask: Mask = (scope.chunk.batch.faults[low:high] & np.uint64(self.mask)) != 0
        return mask


@dataclass(frozen=True)
class At(Plain):
    """``at:``: a span in time since the recording's zero; None is open."""

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
        start = least if self.start_ns is None else scene.zero + self.start_ns
        return start, most if self.end_ns is None else scene.zero + self.end_ns

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows within it, both ends included."""
        start, end = self._bounds(scope.scene)
        times = scope.chunk.batch.time[low:high]
        mask: Mask = (times >= start) & (times <= end)
        return mask
