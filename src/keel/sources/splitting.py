"""A stream of bytes cut into messages: by silence, after a delimiter, or by length.

Bytes are stamped as they arrive; when the first one of a message began is reckoned back by the time a byte takes.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal, NamedTuple

import numpy as np

from keel.model.frames import FrameBatch, batch_of, empty_batch
from keel.model.units import NS_PER_S

How = Literal["gap", "delimiter", "length"]
LONGEST = 1 << 16
"""A message has no more bytes, whatever does not come."""
SILENT_NS = NS_PER_S
"""After so long a silence a message is taken for whole, though its delimiter or its last bytes did not come."""
USUAL_BYTES, LEAST_GAP_NS = 3.5, 2_000_000
"""A gap of so many byte times ends a message where nobody says how long one is, but none shorter than systems can
tell."""


@dataclass(frozen=True)
class Split:
    """How messages are told: ``gap_ns``, ``delimiter`` or ``length`` are used according to ``how``."""

    how: How = "gap"
    byte_ns: int = 1_041_667
    gap_ns: int = 0
    delimiter: bytes = b"\n"
    length: int = 1

    @property
    def silence_ns(self) -> int:
        """The silence after which a message is whole."""
        usual = max(int(USUAL_BYTES * self.byte_ns), LEAST_GAP_NS)
        return (self.gap_ns or usual) if self.how == "gap" else max(SILENT_NS, self.gap_ns)


class Message(NamedTuple):
    """Bytes that belong together: when the first one began, in ns, and the faults of any."""

    time: int
    data: bytes
    faults: int


@dataclass
class Splitter:
    """Cuts one direction of a line."""

    split: Split
    _held: bytearray = field(default_factory=bytearray)
    _held_faults: list[tuple[int, int]] = field(default_factory=list)
    _began: int = 0
    _last: int = 0

    def take(self, data: bytes, at_ns: int, faults: list[tuple[int, int]] | None = None) -> list[Message]:
        """Messages that are whole with these bytes.

        Args:
            data: What came.
            at_ns: When it was read.
            faults: Places in it and the faults there.
        """
        if not data:
            return []
        byte_ns = self.split.byte_ns
        first = max(at_ns - len(data) * byte_ns, min(self._last, at_ns))
        whole = self._flushed(first) if self._held else []
        if not self._held:
            self._began = first
        self._held_faults += [(len(self._held) + place, fault) for place, fault in faults or ()]
        self._held += data
        self._last = at_ns
        while (size := self._size()) > 0:
            whole.append(self._cut(size))
        return whole

    def idle(self, now_ns: int) -> list[Message]:
        """What is whole because nothing came any more."""
        return self._flushed(now_ns) if self._held else []

    def rest(self) -> list[Message]:
        """What is left at the end."""
        return [self._cut(len(self._held))] if self._held else []

    def _flushed(self, now_ns: int) -> list[Message]:
        return self.rest() if now_ns - self._last >= self.split.silence_ns else []

    def _size(self) -> int:
        """How long the message is that begins what is held; 0 where it is not whole yet."""
        held, split = self._held, self.split
        size = 0
        if split.how == "delimiter":
            at = held.find(split.delimiter)
            size = at + len(split.delimiter) if at >= 0 else 0
        elif split.how == "length" and len(held) >= split.length:
            size = split.length
        return size or (LONGEST if len(held) >= LONGEST else 0)

    def _cut(self, size: int) -> Message:
        faults = 0
        for place, fault in self._held_faults:
            faults |= fault if place < size else 0
        made = Message(self._began, bytes(self._held[:size]), faults)
        del self._held[:size]
        self._held_faults = [(place - size, fault) for place, fault in self._held_faults if place >= size]
        self._began += size * self.split.byte_ns
        return made


def frames_of(messages: list[Message], form: int, flags: int = 0) -> FrameBatch:
    """Messages as frames of a serial line."""
    if not messages:
        return empty_batch()
    times = np.array([one.time for one in messages], np.int64)
    faults = np.array([one.faults for one in messages], np.uint32)
    return batch_of(times, 0, [one.data for one in messages], form=form, flags=flags, dlc=0, faults=faults)


ESCAPES = {"cr": b"\r", "lf": b"\n", "crlf": b"\r\n", "nul": b"\0"}


def delimiter_of(text: str) -> bytes:
    """A delimiter as people write it: ``lf``, ``crlf``, or bytes in hex.

    Raises:
        ValueError: it is none.
    """
    found = ESCAPES.get(text.lower())
    if found is None:
        found = bytes.fromhex(text)
    if not 1 <= len(found) <= 16:
        raise ValueError(text)
    return found
