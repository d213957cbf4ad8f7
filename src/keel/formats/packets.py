"""Packets as capture files hold them, whatever link type they are of; and what a link type makes of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np

from keel.formats.reader import Account
from keel.model.frames import Bytes, FrameBatch, Mask, Rows, Times, copied


@dataclass(frozen=True, eq=False)
class Packets:
    """Packets of one link type, in the order of the file.

    Attributes:
        buffer: The bytes of the file, or some of them.
        little: Whether the file is little-endian.
        at: Where each packet begins in ``buffer``, shape (n,).
        captured, original: How many bytes of it are there, and how many there were.
        time: In ns since 1970.
        bus: Bus indices.
        sent: Whether the capture says that it went out.
    """

    buffer: Bytes
    little: bool
    at: Rows
    captured: Rows
    original: Rows
    time: Times
    bus: Any
    sent: Mask

    def __len__(self) -> int:
        return len(self.at)

    def take(self, rows: Any) -> Packets:
        """Some of them."""
        columns = (self.at, self.captured, self.original, self.time, self.bus, self.sent)
        return Packets(self.buffer, self.little, *(column[rows] for column in columns))

    def heads(self, size: int) -> Bytes:
        """The first bytes of each, 0 beyond its end; shape (n, size)."""
        places = np.arange(size)
        index = np.minimum(self.at[:, None] + places, max(len(self.buffer) - 1, 0))
        found: Bytes = self.buffer[index] if len(self.buffer) else np.zeros((len(self), size), np.uint8)
        found[places >= self.captured[:, None]] = 0
        return found


def little_number(heads: Bytes, at: int, size: int) -> Any:
    """The little-endian number in bytes ``at`` to ``at + size`` of each row, at most 8 bytes; int64, shape (n,)."""
    value = np.zeros(len(heads), np.int64)
    for k in range(size):
        value |= heads[:, at + k].astype(np.int64) << (8 * k)
    return value


def put_little_number(heads: Bytes, at: int, size: int, values: Any) -> None:
    """The inverse of `little_number`: write numbers, shape (n,), into the rows."""
    for k in range(size):
        heads[:, at + k] = values >> (8 * k) & 0xFF


class Decoder(Protocol):
    """Makes frames of packets; may remember what it saw, from one call to the next."""

    @property
    def reasons(self) -> tuple[str, ...]:
        """Why packets can be refused, by number; 0 is none."""

    def decode(self, packets: Packets) -> tuple[FrameBatch, Any]:
        """The frames, and for each packet why it is none (0 if it is one); of shape (n,)."""


@dataclass(frozen=True, eq=False)
class Records:
    """What stands in the packets of some frames.

    Attributes:
        heads: The bytes before the payload, shape (n, most); of row i the first ``sizes[i]``.
        sizes: How many of them each has.
        tails: The bytes after the payload, shape (n, t); left out where bytes are missing.
        missing: How many bytes more the packet had that the capture did not keep, shape (n,).
        says_all: Whether the packet says all that the frame holds.
        whole: Whether the heads are whole packets, payloads included.
    """

    heads: Bytes
    sizes: Rows
    tails: Bytes
    missing: Rows
    says_all: Mask
    whole: bool = False


@dataclass(frozen=True)
class LinkType:
    """A link type that is known.

    Attributes:
        number: As captures have it.
        medium: The kind of line it is of.
        decoder: Makes a decoder for one capture.
        records: Writes frames as packets, little-endian.
        wrote: Which headers say that their frame was of this link type, where a medium has several: from shape
            (n, bytes) to (n,).
    """

    number: int
    medium: str
    decoder: Callable[[], Decoder]
    records: Callable[[FrameBatch], Records]
    wrote: Callable[[Bytes], Mask] = lambda headers: np.zeros(len(headers), np.bool_)


class Decoding:
    """Packets of one link type on their way to frames; what is none is counted.

    Attributes:
        seen: How many packets there were so far.
    """

    def __init__(self, link: LinkType, account: Account, called: str) -> None:
        """Begin a capture in which packets are ``called`` so."""
        self.link = link
        self._decoder = link.decoder()
        self._account, self._called = account, called
        self.seen = 0

    def decode(self, packets: Packets, numbers: Rows | None = None) -> tuple[FrameBatch, Rows]:
        """The frames, and which packet each was.

        Args:
            packets: Packets.
            numbers: The number of each in the file, from 1; None if all are of this link type.
        """
        batch, refused = self._decoder.decode(packets)
        for reason in np.unique(refused[refused > 0]).tolist():
            rows = np.flatnonzero(refused == reason)
            first = self.seen + int(rows[0]) + 1 if numbers is None else int(numbers[rows[0]])
            self._account.skip(self._decoder.reasons[reason], f"{self._called} {first}", len(rows))
        self.seen += len(packets)
        return batch, np.flatnonzero(refused == 0)


def gather(buffer: Bytes, starts: Rows, lengths: Rows) -> tuple[Rows, Bytes]:
    """Stretches of a buffer laid end to end: offsets, shape (n + 1,), and the bytes."""
    offsets = np.zeros(len(starts) + 1, np.int64)
    np.cumsum(lengths, out=offsets[1:])
    return offsets, copied(buffer, starts, offsets)


def says(at: int, value: int, headers: Bytes) -> Mask:
    """Which headers have a value in one of their bytes."""
    found: Mask = headers[:, at] == value if headers.shape[1] > at else np.zeros(len(headers), np.bool_)
    return found
