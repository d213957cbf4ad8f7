"""Messages of CAN sockets made by hand from the kernel's documented layout, and sockets that hand them over."""

from __future__ import annotations

import socket
import struct
from collections.abc import Sequence

import numpy as np

from keel.sources.can_socket import (
    CONTROL_BYTES,
    MSG_CONFIRM,
    SO_RXQ_OVFL,
    SO_TIMESTAMPNS,
    Messages,
    Raw,
    ask_for_news,
)


def classic(ident: int, payload: bytes, length: int | None = None, raw_dlc: int = 0) -> bytes:
    """``struct can_frame``: can_id, len, two bytes, len8_dlc, data[8]."""
    return struct.pack("=IBBBB8s", ident, len(payload) if length is None else length, 0, 0, raw_dlc, payload)


def flexible(ident: int, payload: bytes, flags: int = 0) -> bytes:
    """``struct canfd_frame``: can_id, len, flags, two bytes, data[64]."""
    return struct.pack("=IBBBB64s", ident, len(payload), flags, 0, 0, payload)


def told(kind: int, value: bytes) -> bytes:
    """``struct cmsghdr``: length, level, type, then the value, at a multiple of 8."""
    whole = struct.pack("=QII", 16 + len(value), socket.SOL_SOCKET, kind) + value
    return whole + bytes(-len(whole) % 8)


def received_at(ns: int) -> bytes:
    return told(SO_TIMESTAMPNS, struct.pack("=qq", *divmod(ns, 1_000_000_000)))


def dropped(count: int) -> bytes:
    return told(SO_RXQ_OVFL, struct.pack("=I", count))


class FakeSocket:
    """A socket whose messages, and what is told with them, are given; it remembers what it was asked for."""

    def __init__(self, messages: Sequence[tuple[bytes, bytes, int]] = (), error: OSError | None = None) -> None:
        self._near, self._far = socket.socketpair()
        self._waiting = list(messages)
        self._error = error
        self.options: dict[tuple[int, int], object] = {}
        self.closed = False
        if messages or error:
            self._far.send(b"x")

    def setsockopt(self, level: int, name: int, value: object) -> None:
        self.options[level, name] = value

    def fileno(self) -> int:
        return self._near.fileno()

    def receive(self, into: Messages) -> int:
        if not self._waiting and self._error is not None:
            raise self._error
        into.prepare()
        count = min(len(self._waiting), len(into.headers))
        for place in range(count):
            data, control, flags = self._waiting.pop(0)
            into.data[place, : len(data)] = np.frombuffer(data, np.uint8)
            into.control[place, : len(control)] = np.frombuffer(control, np.uint8)
            into.headers["length"][place] = len(data)
            into.headers["control_bytes"][place] = min(len(control), CONTROL_BYTES)
            into.headers["flags"][place] = flags
        return count

    def close(self) -> None:
        self.closed = True
        self._near.close()
        self._far.close()


OWN = MSG_CONFIRM


def a_pair() -> tuple[Raw, socket.socket]:
    """A socket that is read as a CAN socket is, and the other end of it."""
    near, far = socket.socketpair(socket.AF_UNIX, socket.SOCK_DGRAM)
    ask_for_news(near)
    return Raw(near), far
