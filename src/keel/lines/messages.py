"""Bytes of a serial line put together as messages: by silence, after a delimiter, or by length."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit

from keel.lines.framing import frames_of
from keel.lines.uart import FAULTS, Sent, Serial
from keel.media.serial import HOST, TALKER
from keel.model.frames import Flag, FrameBatch, empty_batch

LONGEST = 1 << 16
TEXT = frozenset(range(0x20, 0x7F)) | {9, 10, 13}
A_JUMP = 3.0
"""Silences fall in two kinds where the longer are so many times the shorter."""
USUAL_BYTES, LONG_SILENCE = 3.5, 20
"""Silences in bytes: what parts messages where nothing else is known, and what ends one that is not whole."""
MOST_LOOKED_AT, PHASES, PLACES, MOST_ADDED = 4_096, 300, (1, 2, 0, 3), 8
"""To find a length: so many bytes are looked at, from so many beginnings on; its usual places; what it leaves out."""
FEWEST, SELDOM = 8, 3


@dataclass(frozen=True)
class Cut:
    """How messages are told: by ``gap_ns`` of silence, after ``delimiter``, ``length`` bytes each, or by a byte of
    their own: ``field`` is its place in the message, and what is to be added to it for the whole length."""

    gap_ns: int = 0
    delimiter: int | None = None
    length: int = 0
    field: tuple[int, int] | None = None

    @property
    def settings(self) -> dict[str, object]:
        """As commands say it."""
        if self.delimiter is not None:
            return {"delimiter": {10: "lf", 13: "cr"}.get(self.delimiter, f"{self.delimiter:02x}")}
        if self.field is not None:
            return {"length_field": f"{self.field[0]}+{self.field[1]}"}
        return {"length": self.length} if self.length else {"gap": f"{self.gap_ns / 1e6:g}ms"}


def chosen_cut(sent: Sent, how: Serial) -> Cut:
    """How the messages of a line seem to be told."""
    values = sent.values[sent.good]
    plain = float(np.isin(values, list(TEXT)).mean()) if len(values) else 0.0
    for delimiter in (10, 13):
        if plain > 0.9 and (values == delimiter).sum() >= 1 and how.bits <= 8:
            return Cut(delimiter=delimiter)
    byte = how.length * how.bit_ns
    gaps = np.sort(np.maximum(sent.starts[1:] - sent.ends[:-1], 0).astype(np.float64))
    long = gaps[gaps > 0.5 * byte]
    if len(long) and len(long) < len(gaps):
        # Between the pauses within messages, if there are any, and those between them.
        floor = max(float(gaps[len(gaps) - len(long) - 1]), 0.2 * byte)
        steps = np.concatenate([[floor], long])
        jumps = steps[1:] / steps[:-1]
        at = int(jumps.argmax())
        if jumps[at] >= A_JUMP:
            return Cut(gap_ns=int(np.sqrt(steps[at] * steps[at + 1])))
    field = length_field_of(sent.values) if how.bits <= 8 else None
    return Cut(field=field) if field is not None else Cut(gap_ns=int(USUAL_BYTES * byte))


def length_field_of(values: Any) -> tuple[int, int] | None:
    """Where messages that follow each other without a pause say how long they are: place, and what is added to it.

    From one message to the next leads a byte that says how long it is: where that meets the same first byte again and
    again, and that byte stands hardly anywhere else, it is no chance.
    """
    looked = np.ascontiguousarray(values[:MOST_LOOKED_AT], np.int64)
    counts = np.bincount(looked, minlength=256)
    for at in PLACES:
        for more in range(at + 1, at + MOST_ADDED):
            for begin in range(min(len(looked), PHASES)):
                found = _chain(looked, begin, at, more)
                if found >= FEWEST and counts[looked[begin]] <= SELDOM * found:
                    return at, more
    return None


@njit(cache=True, nogil=True)
def _chain(values: Any, begin: Any, at: Any, more: Any) -> Any:
    """How many messages follow each other to the end, all with one first byte and not all of one length; else 0."""
    place, n = begin, 0
    first_length, is_even = 0, True
    while place + at < len(values):
        if values[place] != values[begin]:
            return 0
        length = values[place + at] + more
        first_length = length if n == 0 else first_length
        is_even = is_even and length == first_length
        place += length
        n += 1
    return 0 if is_even else n


@njit(cache=True, nogil=True)
def _walk(values: Any, silent: Any, at: Any, more: Any, breaks: Any) -> None:
    """Mark where messages begin that say how long they are; a long silence begins one anyhow."""
    place = 0
    while place < len(values):
        breaks[place] = True
        end = min(place + (values[place + at] if place + at < len(values) else 0) + more, len(values))
        place += 1
        while place < end and not silent[place]:
            place += 1


def messages_of(sent: Sent, how: Serial, cut: Cut, from_host: bool = False) -> FrameBatch:
    """The messages as frames of a serial line, each from the start of its first to the end of its last byte."""
    if not len(sent):
        return empty_batch()
    breaks = np.zeros(len(sent), np.bool_)
    if cut.delimiter is not None:
        breaks[1:] = sent.values[:-1] == cut.delimiter
        # What stands alone before a long silence is a message, too.
        breaks[1:] |= sent.starts[1:] - sent.ends[:-1] > 1_000_000_000
    elif cut.length:
        breaks[:: cut.length] = True
    elif cut.field is not None:
        silent = np.zeros(len(sent), np.bool_)
        silent[1:] = sent.starts[1:] - sent.ends[:-1] >= LONG_SILENCE * how.length * how.bit_ns
        _walk(sent.values.astype(np.int64), silent, *cut.field, breaks)
    else:
        breaks[1:] = sent.starts[1:] - sent.ends[:-1] >= cut.gap_ns
    breaks[0] = True
    begins = _no_longer(np.flatnonzero(breaks), len(sent))
    stops = np.append(begins[1:], len(sent))
    faults = np.zeros(len(sent), np.uint32)
    for bit, fault in FAULTS.items():
        if (wrong := (sent.faults & bit) != 0).any():
            faults[wrong] |= np.uint32(int(fault))
    size = 2 if how.bits > 8 else 1
    data = sent.values.astype(">u2").view(np.uint8) if size == 2 else sent.values.astype(np.uint8)
    form = HOST.number if from_host else TALKER.number
    flags = int(Flag.TX) if from_host else 0
    offsets, wrong = np.append(begins, len(sent)) * size, np.bitwise_or.reduceat(faults, begins)
    return frames_of(sent.starts[begins], sent.ends[stops - 1], form, 0, offsets, data, wrong, flags)


def _no_longer(begins: Any, end: int) -> Any:
    """The same messages, but those that are too long cut in pieces of `LONGEST`."""
    lengths = np.diff(begins, append=end)
    pieces = -(-lengths // LONGEST)
    if (pieces == 1).all():
        return begins
    number = np.arange(pieces.sum()) - np.repeat(np.cumsum(pieces) - pieces, pieces)
    return np.repeat(begins, pieces) + number * LONGEST
