"""Raw CAN sockets, read many messages at a time.

A message is a ``struct can_frame`` of 16 bytes or a ``struct canfd_frame`` of 72: identifier and its three top bits in
the machine's byte order, length, FD flags, two bytes, payload. With it come, where the socket was asked for them, when
it was received and how many were dropped; and that it was sent on this machine.

Source: the kernel's documentation of SocketCAN (networking/can), 4.1; socket(7), SO_TIMESTAMPNS and SO_RXQ_OVFL.
"""

from __future__ import annotations

import ctypes
import os
import socket
import struct
import sys
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
import numpy.typing as npt

from keel.model.frames import Bytes, Mask, Times

CLASSIC_BYTES, FD_BYTES = 16, 72
ROOM = 1024
"""So many messages are read at once, at most."""
CONTROL_BYTES = 64
BUFFER_BYTES = 8 << 20
"""What the kernel is asked to hold, where it lets one ask for so much."""
PF_CAN, CAN_RAW = 29, 1
SOL_CAN_RAW = 101
CAN_RAW_FILTER, CAN_RAW_ERR_FILTER, CAN_RAW_LOOPBACK, CAN_RAW_RECV_OWN, CAN_RAW_FD_FRAMES = 1, 2, 3, 4, 5
ALL_ERRORS = 0x1FFF_FFFF
SO_TIMESTAMPNS, SO_RXQ_OVFL, SO_RCVBUFFORCE = 35, 40, 33
TIMED_BYTES, TIMED = 32, SO_TIMESTAMPNS << 32 | 1
"""A control message with a time: its length, and its level and kind as one number."""
MSG_DONTWAIT, MSG_DONTROUTE, MSG_CONFIRM = 0x40, 0x4, 0x800
"""The last two say of a message that it was sent on this machine, and by this socket."""
INVERTED, EFF, RTR = 0x2000_0000, 0x8000_0000, 0x4000_0000
EXTENDED_MASK, BASE_MASK = 0x1FFF_FFFF, 0x7FF
MOST_FILTERS = 512

_HEADERS = np.dtype(
    [("name", "u8"), ("name_bytes", "u8"), ("parts", "u8"), ("part_count", "u8"), ("control", "u8"),
     ("control_bytes", "u8"), ("flags", "i4"), ("_", "i4"), ("length", "u4"), ("__", "u4")]
)  # fmt: skip
"""``struct mmsghdr`` of 64-bit machines."""
_PARTS = np.dtype([("base", "u8"), ("length", "u8")])


@dataclass(frozen=True)
class IdFilter:
    """Identifiers whose bits under ``mask`` equal those of ``ident``; both as the kernel has them, with the EFF bit."""

    ident: int
    mask: int


class Messages:
    """Room for messages, and what came with them; the same memory is used again for each reading."""

    def __init__(self, room: int = ROOM) -> None:
        self.data = np.zeros((room, FD_BYTES), np.uint8)
        self.control = np.zeros((room, CONTROL_BYTES), np.uint8)
        self.parts = np.zeros(room, _PARTS)
        self.headers = np.zeros(room, _HEADERS)
        places = np.arange(room, dtype=np.uint64)
        self.parts["base"] = self.data.ctypes.data + places * FD_BYTES
        self.parts["length"] = FD_BYTES
        self.headers["parts"] = self.parts.ctypes.data + places * _PARTS.itemsize
        self.headers["part_count"] = 1
        self.headers["control"] = self.control.ctypes.data + places * CONTROL_BYTES

    def prepare(self) -> None:
        """Make ready for the next reading."""
        self.headers["control_bytes"] = CONTROL_BYTES
        self.headers["flags"] = 0

    def times(self, count: int) -> tuple[Times, Mask]:
        """When the first so many were received, in ns since 1970, and whether that is known; both shape (count,)."""
        words = self.control.view(np.int64)[:count]
        stands_first = (words[:, 0] == TIMED_BYTES) & (words[:, 1] == TIMED) & (self._ends(count) >= TIMED_BYTES)
        if stands_first.all():
            # As the kernel does it: the time stands first in all of them.
            return words[:, 2] * 1_000_000_000 + words[:, 3], np.ones(count, np.bool_)
        values, there = self._control(count, SO_TIMESTAMPNS, 16)
        parts = values.view(np.int64)
        return parts[:, 0] * 1_000_000_000 + parts[:, 1], there

    def dropped(self, count: int) -> int:
        """How many the kernel had dropped, in all, when the last of them came; 0 if it says nothing."""
        if self._ends(count).max(initial=0) <= TIMED_BYTES and (self.control.view(np.int64)[:count, 1] == TIMED).all():
            return 0
        values, there = self._control(count, SO_RXQ_OVFL, 4)
        return int(values.view(np.uint32)[there].max(initial=0))

    def _ends(self, count: int) -> npt.NDArray[np.int64]:
        """How many bytes of control messages came with each."""
        return np.minimum(self.headers["control_bytes"][:count].astype(np.int64), CONTROL_BYTES)

    def own(self, count: int) -> Mask:
        """Which were sent on this machine."""
        own: Mask = (self.headers["flags"][:count] & (MSG_DONTROUTE | MSG_CONFIRM)) != 0
        return own

    def _control(self, count: int, kind: int, size: int) -> tuple[Bytes, Mask]:
        """A control message of a kind, of each that has one. They follow each other, each at a multiple of 8."""
        control, ends = self.control[:count], self._ends(count)
        rows, at = np.arange(count), np.zeros(count, np.int64)
        found, there = np.zeros((count, size), np.uint8), np.zeros(count, np.bool_)
        for _ in range(CONTROL_BYTES // 24 + 1):
            more = at + 16 + size <= ends
            more |= at + 20 <= ends
            if not more.any():
                break
            places = np.minimum(at[:, None] + np.arange(16), CONTROL_BYTES - 1)
            head = np.ascontiguousarray(control[rows[:, None], places])
            length = head[:, :8].copy().view(np.uint64)[:, 0].astype(np.int64)
            level, what = head[:, 8:].copy().view(np.int32).T
            here = more & (level == socket.SOL_SOCKET) & (what == kind) & (length >= 16 + size)
            if here.any():
                values = np.minimum(at[:, None] + 16 + np.arange(size), CONTROL_BYTES - 1)
                found[here] = control[rows[:, None], values][here]
                there |= here
            at = np.where(more & (length >= 16), at + (length + 7) // 8 * 8, CONTROL_BYTES)
        return found, there


class CanSocket(Protocol):
    """What is needed of a socket."""

    def fileno(self) -> int:
        """Its file descriptor."""

    def receive(self, into: Messages) -> int:
        """Read what is there, at most as much as there is room for; does not wait.

        Raises:
            OSError: the interface is down or gone.
        """

    def close(self) -> None:
        """Close it."""


class Raw:
    """A socket of the system, CAN or any other that hands over such messages."""

    def __init__(self, made: socket.socket) -> None:
        self._socket = made
        self._receive: Any = ctypes.CDLL(None, use_errno=True).recvmmsg if sys.platform == "linux" else None

    def fileno(self) -> int:
        """Its file descriptor."""
        return self._socket.fileno()

    def receive(self, into: Messages) -> int:
        """Read what is there."""
        into.prepare()
        head = ctypes.c_void_p(into.headers.ctypes.data)
        count = int(self._receive(self.fileno(), head, len(into.headers), MSG_DONTWAIT, None))
        if count >= 0:
            return count
        number = ctypes.get_errno()
        if number in (11, 4):
            return 0
        raise OSError(number, os.strerror(number))

    def close(self) -> None:
        """Close it."""
        self._socket.close()


def set_up(made: Any, only: Sequence[IdFilter] | None) -> None:
    """Ask a CAN socket for FD and error frames, times, drop counts, own frames, a large buffer, and filters."""
    made.setsockopt(SOL_CAN_RAW, CAN_RAW_FD_FRAMES, 1)
    made.setsockopt(SOL_CAN_RAW, CAN_RAW_RECV_OWN, 1)
    made.setsockopt(SOL_CAN_RAW, CAN_RAW_ERR_FILTER, struct.pack("=I", ALL_ERRORS))
    if only is not None:
        packed = b"".join(struct.pack("=II", one.ident, one.mask) for one in only)
        made.setsockopt(SOL_CAN_RAW, CAN_RAW_FILTER, packed)
    ask_for_news(made)


def ask_for_news(made: Any) -> None:
    """Ask any socket for times, drop counts and a large buffer."""
    made.setsockopt(socket.SOL_SOCKET, SO_TIMESTAMPNS, 1)
    made.setsockopt(socket.SOL_SOCKET, SO_RXQ_OVFL, 1)
    try:
        made.setsockopt(socket.SOL_SOCKET, SO_RCVBUFFORCE, BUFFER_BYTES)
    except OSError:
        # Without the right to more, what everybody may have.
        made.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, BUFFER_BYTES)


def filters_of(ranges: Iterable[tuple[int, int, int | None, bool]]) -> list[IdFilter]:
    """Identifiers as the kernel filters them.

    Args:
        ranges: From, to, which bits must be equal (None: a range), and whether they are of 29 bits.
    """
    found: list[IdFilter] = []
    for low, high, mask, is_extended in ranges:
        top = EFF if is_extended else 0
        every = EXTENDED_MASK if is_extended else BASE_MASK
        if mask is not None:
            found.append(IdFilter(low & every | top, mask & every | EFF))
            continue
        at = low
        while at <= min(high, every):
            # The largest aligned block that begins here and ends in time.
            size = at & -at or every + 1
            while at + size - 1 > high:
                size >>= 1
            found.append(IdFilter(at | top, every & ~(size - 1) | EFF))
            at += size
    return found
