"""Bytes of a serial line put together as messages: by silence, after a delimiter, or by length."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from keel.lines.uart import FAULTS, Sent, Serial
from keel.media.serial import HOST, TALKER
from keel.model.frames import Flag, FrameBatch, empty_batch

LONGEST = 1 << 16
TEXT = frozenset(range(0x20, 0x7F)) | {9, 10, 13}
A_JUMP = 3.0
"""Silences fall in two kinds where the longer are so many times the shorter."""
USUAL_BYTES = 3.5


@dataclass(frozen=True)
class Cut:
    """How messages are told: by ``gap_ns`` of silence, after ``delimiter``, or ``length`` bytes each."""

    gap_ns: int = 0
    delimiter: int | None = None
    length: int = 0

    @property
    def settings(self) -> dict[str, object]:
        """As commands say it."""
        if self.delimiter is not None:
            return {"delimiter": {10: "lf", 13: "cr"}.get(self.delimiter, f"{self.delimiter:02x}")}
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
    return Cut(gap_ns=int(USUAL_BYTES * byte))


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
    n, starts = len(begins), sent.starts[begins]
    form = HOST.number if from_host else TALKER.number
    none = np.zeros(n, np.uint32)
    return FrameBatch(
        starts, np.zeros(n, np.uint8), np.full(n, form, np.uint8), np.zeros(n, np.uint64),
        np.full(n, int(Flag.TX) if from_host else 0, np.uint16), np.bitwise_or.reduceat(faults, begins),
        np.zeros(n, np.uint8), none, none.astype(np.uint16), (np.append(begins, len(sent)) * size).astype(np.uint32),
        data, None, sent.ends[stops - 1] - starts,
    )  # fmt: skip


def _no_longer(begins: Any, end: int) -> Any:
    """The same messages, but those that are too long cut in pieces of `LONGEST`."""
    lengths = np.diff(begins, append=end)
    pieces = -(-lengths // LONGEST)
    if (pieces == 1).all():
        return begins
    number = np.arange(pieces.sum()) - np.repeat(np.cumsum(pieces) - pieces, pieces)
    return np.repeat(begins, pieces) + number * LONGEST
