"""How a signal goes over time: values folded into blocks once, and drawn from these, so that no spike is lost.

The frames of one identifier lie together in each chunk. They are folded into blocks of `BLOCK` frames: least, most,
sum and counts. A picture takes whole blocks where they lie within what ask and lens leave, and single frames at the
edges.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from keel.ask.matches import Matches
from keel.model.fields import BitField
from keel.model.frames import Rows, Times
from keel.model.span import Span
from keel.signals.decoding import decode_rows, source_of
from keel.signals.dictionary import Message
from keel.signals.extracting import fold, take
from keel.signals.signal import Signal, Standing, within
from keel.store.chunk import Chunk

BLOCK = 256
NONE = 3
"""The kind of a frame that does not carry the signal."""
MOST_KEPT = 50_000
"""Folded runs that are kept at most: a recording that grows leaves behind many that nobody asks for again."""
EXACT = 40_000
"""Up to so many frames of an identifier each is looked at; of more, whole blocks where they are fine enough."""

Name = tuple[int, str]
"""A signal of a recording: the identifier's key and the signal's name."""


@dataclass(frozen=True, eq=False)
class Envelope:
    """A signal over columns of time; arrays of shape (columns,).

    Attributes:
        edges: Bounds of the columns, in ns, shape (columns + 1,).
        least, most: NaN where a column has no value; ``first`` and ``last`` likewise.
        absent, wrong: How often it was "not available", and "error".
        held: The last value before the columns; NaN if there is none.
    """

    signal: Signal
    edges: Times
    least: Any
    most: Any
    first: Any
    last: Any
    count: Rows
    absent: Rows
    wrong: Rows
    held: float = float("nan")


@dataclass(frozen=True)
class Course:
    """What a signal says over all that is looked at.

    Attributes:
        now: Its last value; None if it has none.
        raw: The last raw value.
        standing: Whether the last raw value is a value.
        seen: When that was, in ns; None if it was never there.
        count: Frames with a value.
        absent, wrong: Frames that said "not available", and "error".
        trend: Mean in each of some stretches of time, NaN where there is none.
    """

    now: float | None
    raw: int | None
    standing: Standing
    seen: int | None
    least: float | None
    mean: float | None
    most: float | None
    count: int
    absent: int
    wrong: int
    trend: Any


@dataclass(frozen=True, eq=False)
class _Blocks:
    """A run of frames, folded; ``starts`` and ``ends`` are the times of each block's first and last frame."""

    starts: Times
    ends: Times
    folded: dict[str, Any]


@dataclass(eq=False)
class _Parts:
    """Which rows of which chunks are of an identifier, of one set of matches."""

    matches: Matches
    of: dict[int, list[tuple[Chunk, Rows | slice]]]


class Courses:
    """Knows what was folded already. For one thread."""

    def __init__(self) -> None:
        self._blocks: dict[tuple[int, int, str], _Blocks] = {}
        self._parts: _Parts | None = None

    def _rows(self, matches: Matches, key: int) -> list[tuple[Chunk, Rows | slice]]:
        if self._parts is None or self._parts.matches is not matches:
            found: dict[int, list[tuple[Chunk, Rows | slice]]] = {}
            for part in matches.parts:
                for one, rows in part.each_run() if part.count else ():
                    found.setdefault(one, []).append((part.chunk, rows))
            self._parts = _Parts(matches, found)
            if len(self._blocks) > MOST_KEPT:
                self._blocks.clear()
        return self._parts.of.get(key, [])

    def pieces(self, matches: Matches, key: int, message: Message, signal: Signal, columns: int = 1) -> dict[str, Any]:
        """The signal as blocks in order of time: columns starts, ends, least, most, total, count, absent, wrong.

        Single frames where whole blocks would be too coarse for so many columns of time.
        """
        parts = self._rows(matches, key)
        frames = sum(r.stop - r.start if isinstance(r, slice) else len(r) for _, r in parts)
        found: list[dict[str, Any]] = []
        for chunk, rows in parts:
            if frames <= max(EXACT, 2 * BLOCK * columns) or not isinstance(rows, slice):
                found.append(self._singles(chunk, rows, message, signal))
                continue
            run = int(chunk.runs_of(np.array([rows.start]))[0])
            base, end = int(chunk.starts[run]), int(chunk.starts[run + 1])
            first, last = -(-(rows.start - base) // BLOCK), (rows.stop - base) // BLOCK
            if rows.stop == end:
                last = -(-(end - base) // BLOCK)
            if first >= last:
                found.append(self._singles(chunk, rows, message, signal))
                continue
            if base + first * BLOCK > rows.start:
                found.append(self._singles(chunk, slice(rows.start, base + first * BLOCK), message, signal))
            blocks = self._folded(chunk, run, message, signal)
            inner = {name: column[first:last] for name, column in blocks.folded.items()}
            found.append({"starts": blocks.starts[first:last], "ends": blocks.ends[first:last], **inner})
            if base + last * BLOCK < rows.stop:
                found.append(self._singles(chunk, slice(base + last * BLOCK, rows.stop), message, signal))
        if not found:
            return {}
        return {name: np.concatenate([f[name] for f in found]) for name in found[0]}

    def _singles(self, chunk: Chunk, rows: Rows | slice, message: Message, signal: Signal) -> dict[str, Any]:
        """Each frame as a block of its own."""
        at = np.arange(rows.start, rows.stop) if isinstance(rows, slice) else rows
        found = decode_rows(message, signal, chunk.batch, at[chunk.batch.is_sound(at)])
        times = chunk.batch.time[found.rows]
        there = found.there
        return {
            "starts": times,
            "ends": times,
            "least": np.where(there, found.values, np.inf),
            "most": np.where(there, found.values, -np.inf),
            "total": np.where(there, found.values, 0.0),
            "count": there.astype(np.int64),
            "absent": (found.standing == Standing.NOT_AVAILABLE).astype(np.int64),
            "wrong": (found.standing == Standing.ERROR).astype(np.int64),
        }

    def _folded(self, chunk: Chunk, run: int, message: Message, signal: Signal) -> _Blocks:
        low, high = int(chunk.starts[run]), int(chunk.starts[run + 1])
        name = (chunk.serial, low, f"{message.name}.{signal.name}.{signal.field}.{signal.scale}.{signal.offset}")
        if name not in self._blocks:
            batch = chunk.batch
            values, kind = values_of_run(chunk, low, high, message, signal)
            times = batch.time[low:high]
            ends = times[np.minimum(np.arange(BLOCK, len(times) + BLOCK, BLOCK), len(times)) - 1]
            self._blocks[name] = _Blocks(times[::BLOCK].copy(), ends.copy(), fold(values, kind, BLOCK))
        return self._blocks[name]

    def envelope(
        self, matches: Matches, key: int, message: Message, signal: Signal, span: Span, columns: int
    ) -> Envelope:
        """The signal over a span cut into columns."""
        edges = span.edges(columns)
        empty = np.full(columns, np.nan)
        zeros = np.zeros(columns, np.int64)
        pieces = self.pieces(matches, key, message, signal, columns)
        if not pieces or not len(pieces["starts"]):
            return Envelope(signal, edges, empty, empty, empty, empty, zeros, zeros, zeros)
        first = np.clip(np.searchsorted(edges, pieces["starts"], "right") - 1, 0, columns - 1)
        last = np.clip(np.searchsorted(edges, pieces["ends"], "right") - 1, 0, columns - 1)
        least, most = np.full(columns, np.inf), np.full(columns, -np.inf)
        for place in (first, last):
            np.minimum.at(least, place, pieces["least"])
            np.maximum.at(most, place, pieces["most"])
        counts = {n: np.bincount(first, pieces[n], columns).astype(np.int64) for n in ("count", "absent", "wrong")}
        there = pieces["count"] > 0
        means = np.where(there, pieces["total"] / np.maximum(pieces["count"], 1), np.nan)
        begins, ends = np.full(columns, np.nan), np.full(columns, np.nan)
        ends[first[there]] = means[there]
        begins[first[there][::-1]] = means[there][::-1]
        nothing = least > most
        least[nothing] = most[nothing] = np.nan
        return Envelope(signal, edges, least, most, begins, ends, counts["count"], counts["absent"], counts["wrong"])

    def course(self, matches: Matches, key: int, message: Message, signal: Signal, span: Span, cells: int) -> Course:
        """What the signal says over what is looked at; ``cells`` stretches for the trend."""
        pieces = self.pieces(matches, key, message, signal)
        last = self.last(matches, key, message, signal)
        trend = np.full(cells, np.nan)
        if not pieces or not len(pieces["starts"]):
            return Course(None, None, Standing.VALUE, None, None, None, None, 0, 0, 0, trend)
        count = int(pieces["count"].sum())
        place = np.clip(np.searchsorted(span.edges(cells), pieces["starts"], "right") - 1, 0, cells - 1)
        counts = np.bincount(place, pieces["count"], cells)
        sums = np.bincount(place, pieces["total"], cells)
        np.divide(sums, counts, out=trend, where=counts > 0)
        now, raw, standing, seen = last if last is not None else (None, None, Standing.VALUE, None)
        return Course(
            now,
            raw,
            standing,
            seen,
            float(pieces["least"].min()) if count else None,
            float(pieces["total"].sum()) / count if count else None,
            float(pieces["most"].max()) if count else None,
            count,
            int(pieces["absent"].sum()),
            int(pieces["wrong"].sum()),
            trend,
        )

    def last(
        self, matches: Matches, key: int, message: Message, signal: Signal, before: int | None = None
    ) -> tuple[float | None, int, Standing, int] | None:
        """Value, raw value, standing and time of the last frame that carries it; at or before a time if given."""
        for chunk, rows in reversed(self._rows(matches, key)):
            at = np.arange(rows.start, rows.stop) if isinstance(rows, slice) else rows
            if before is not None:
                at = at[: int(np.searchsorted(chunk.batch.time[at], before, "right"))]
            size = 64
            while len(at):
                some, at = at[-size:], at[:-size]
                found = decode_rows(message, signal, chunk.batch, some[chunk.batch.is_sound(some)])
                if len(found):
                    standing = Standing(int(found.standing[-1]))
                    value = float(found.values[-1]) if standing == Standing.VALUE else None
                    return value, int(found.raw[-1]), standing, int(chunk.batch.time[found.rows[-1]])
                size *= 4
        return None


def values_of_run(chunk: Chunk, low: int, high: int, message: Message, signal: Signal) -> tuple[Any, Any]:
    """Physical values and kinds (`Standing`, or `NONE`) of rows of one identifier, shape (high - low,)."""
    batch = source_of(signal, chunk.batch)
    raw, there = take(signal.field, batch, low, high)
    kind = signal.standing(raw) if not signal.is_plain else np.zeros(len(raw), np.uint8)
    above = signal
    while above.pages and (selector := message.selector_of(above)) is not None and selector is not above:
        chosen, has = take(selector.field, batch, low, high)
        there &= has & within(chosen, above.pages)
        above = selector
    kind[~there] = NONE
    return signal.physical(raw), kind


def courses_once(matches: Matches) -> None:
    """Run what is compiled once, on rows as they lie on disk and in memory, so that nobody waits for it later."""
    byte = BitField(0, 8)
    for chunk in matches.snapshot.chunks[:1]:
        for batch in (chunk.batch, chunk.batch.take(np.arange(len(chunk)))):
            raw, there = take(byte, batch, 0, len(batch))
            fold(raw.astype(np.float64), np.where(there, 0, NONE).astype(np.uint8), BLOCK)
