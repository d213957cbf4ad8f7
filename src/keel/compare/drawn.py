"""What there is to draw of a difference: a course for each side, both in the first side's time."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from keel.compare.difference import Difference, message_of
from keel.compare.differences import Comparison
from keel.compare.sides import Side
from keel.measure.courses import Courses, Envelope
from keel.measure.cycles import times_of
from keel.model.fields import BitField
from keel.model.identity import unpack_key
from keel.model.span import Span
from keel.model.units import NS_PER_S
from keel.signals.dictionary import Message
from keel.signals.signal import Signal

RATE = Signal("frames", BitField(0, 1), unit="frames/s")


def courses_of(found: Comparison, difference: Difference, columns: int) -> tuple[str, list[tuple[str, Envelope]]]:
    """A title, and (this or other, course) over the time of this.

    Of a signal or of some bits their values; of anything else the frames a second of the identifier, or of all.
    """
    a, b = found.a, found.b
    shift = found.alignment.offset_ns
    window = Span(min(a.span.start, b.span.start + shift), max(a.span.end, b.span.end + shift))
    keys = (difference.key, found.buses.to_b(difference.key) if difference.key is not None else None)
    made: list[tuple[str, Envelope]] = []
    title = ""
    for name, side, key, by in (("this", a, keys[0], 0), ("other", b, keys[1], shift)):
        if difference.key is not None and (key is None or key not in side.census):
            continue
        there = Span(window.start - by, window.end - by)
        message, signal = _signal(found, side, key, difference)
        if message is not None and signal is not None and key is not None:
            envelope = Courses().envelope(side.matches, key, message, signal, there, columns)
            title = f"{message.name}.{signal.name}"
        else:
            faulty = difference.kind == "faults"
            envelope = _rate(side, None if faulty else key, there, columns, faulty)
            of = found.name(difference.key) or "all"
            title = "faulty frames a second" if faulty else f"frames a second of {of}"
        made.append((name, replace(envelope, edges=envelope.edges + by)))
    return title, made


def _signal(
    found: Comparison, side: Side, key: int | None, difference: Difference
) -> tuple[Message | None, Signal | None]:
    """The signal to draw; for bits that nobody named, one made for the purpose."""
    if key is None or difference.key is None:
        return None, None
    message = message_of(found.both, difference.key)
    if difference.signal and message is not None:
        return message, message.signal(difference.signal)
    if difference.field is None:
        return None, None
    first, last = min(difference.field.bits), max(difference.field.bits)
    name = f"bit {first}" if first == last else f"bits {first}–{last}"
    made = Signal(name, difference.field)
    holder = message or Message(side.bus(key), *unpack_key(key)[1:], found.name(difference.key) or "raw")
    return replace(holder, signals=(*holder.signals, made)), made


RATE_CELLS = 6
"""A rate is taken over so many columns together: a stretch must hold some frames."""


def _rate(side: Side, key: int | None, span: Span, columns: int, faulty: bool) -> Envelope:
    """Frames a second: of an identifier, of all, or of those with a fault."""
    cells = max(columns // RATE_CELLS, 1)
    edges = span.edges(cells)
    if key is not None:
        times = times_of(side.matches, key)
    else:
        found = []
        for part in side.matches.parts:
            batch, mask = part.chunk.batch, part.stored_mask()
            wanted = batch.faults != 0 if faulty else np.ones(len(batch), np.bool_)
            found.append(batch.time[wanted if mask is None else wanted & mask])
        times = np.concatenate(found) if found else np.zeros(0, np.int64)
    counts = np.histogram(times, edges)[0]
    rate = counts / max((span.end - span.start) / cells / NS_PER_S, 1e-9)
    place = np.arange(columns) * cells // columns
    drawn, zeros = rate[place], np.zeros(columns, np.int64)
    return Envelope(RATE, span.edges(columns), drawn, drawn, drawn, drawn, counts[place], zeros, zeros)
