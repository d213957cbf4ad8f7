"""CAN interfaces of the kernel as a source: several onto one clock, with the kernel's own times."""

from __future__ import annotations

import errno
import select
import socket
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from keel.errors import AskError, InputError
from keel.formats.canrecord import FD_FDF, CanDecoder
from keel.formats.packets import Packets
from keel.model.bus import Bus
from keel.model.frames import FrameBatch, concat, empty_batch
from keel.sources import interfaces
from keel.sources.can_socket import (
    CAN_RAW,
    CLASSIC_BYTES,
    FD_BYTES,
    MOST_FILTERS,
    PF_CAN,
    CanSocket,
    IdFilter,
    Messages,
    Raw,
    filters_of,
    set_up,
)
from keel.sources.interfaces import Interface
from keel.sources.kind import Given, Kind, Offer, Parameter, Verdict
from keel.sources.source import Lost, Source, SourceGone
from keel.sources.trying_can import try_interfaces

USUAL_RATE, USUAL_FAST_RATE = 500_000, 2_000_000
MOST_AT_ONCE = 16
"""One interface is read so many times before the next has its turn."""
GATHER_S = 0.01
"""Frames are left to gather for so long: what is read many at a time takes a fraction of what each takes alone. The
least buffer that a kernel gives holds what a full bus sends in three times as long."""

Open = Callable[[str, Sequence[IdFilter] | None], CanSocket]
Look = Callable[[], list[Interface]]


@dataclass
class _Line:
    """An interface that is read."""

    name: str
    socket: CanSocket | None = None
    dropped: int = 0
    dropped_before: int = 0


class SocketCan(Source):
    """Frames of CAN interfaces."""

    def __init__(
        self,
        names: Sequence[str],
        only: Sequence[IdFilter] | None = None,
        opened: Open | None = None,
        look: Look = interfaces.interfaces,
    ) -> None:
        """Open the interfaces.

        Args:
            names: Theirs.
            only: Which identifiers the kernel hands over; None for all.
            opened: Opens a socket at an interface.
            look: Tells which interfaces there are.

        Raises:
            SourceGone: one is missing, down, or may not be read; says what to do.
        """
        super().__init__()
        self._only, self._opened = only, opened or open_socket
        self.title = f"can {', '.join(names)}"
        known = {one.name: one for one in look()}
        self.buses = [_bus(known.get(name, Interface(name))) for name in names]
        self._lines = [_Line(name) for name in names]
        self._messages, self._decoder = Messages(), CanDecoder()
        self._skipped = self._untimed = 0
        self._read_at = 0.0
        self._open()

    def _open(self) -> None:
        try:
            for line in self._lines:
                if line.socket is None:
                    line.socket = self._opened(line.name, self._only)
                    line.dropped_before, line.dropped = line.dropped_before + line.dropped, 0
        except SourceGone:
            self._close()
            raise

    def reopen(self) -> None:
        """Open the interfaces again after one went away."""
        self._open()

    def poll(self, wait_s: float = 0.0) -> FrameBatch:
        """The frames since the last call, those of all interfaces in order of time."""
        by_file = {line.socket.fileno(): place for place, line in enumerate(self._lines) if line.socket is not None}
        if wait_s and (early := GATHER_S - (time.monotonic() - self._read_at)) > 0:
            time.sleep(min(early, wait_s))
        ready = select.select(list(by_file), [], [], wait_s)[0]
        self._read_at = time.monotonic()
        made: list[FrameBatch] = []
        for file in ready:
            made += self._read(by_file[file])
        if len(made) < 2:
            return made[0] if made else empty_batch()
        batch = concat(made)
        return batch.take(np.argsort(batch.time, kind="stable"))

    def _read(self, place: int) -> list[FrameBatch]:
        line, made = self._lines[place], []
        assert line.socket is not None
        for _ in range(MOST_AT_ONCE):
            try:
                count = line.socket.receive(self._messages)
            except OSError as error:
                line.socket.close()
                line.socket = None
                raise SourceGone(line.name, _why_gone(error, line.name)) from None
            if count:
                made.append(self._decoded(place, count))
            if count < len(self._messages.headers):
                break
        return made

    def _decoded(self, place: int, count: int) -> FrameBatch:
        """Messages as frames. In memory they lie as in captures, but for the byte order of the identifier."""
        messages, line = self._messages, self._lines[place]
        times, known = messages.times(count)
        if not known.all():
            self._untimed += int(np.count_nonzero(~known))
            times = np.where(known, times, time.time_ns())
        line.dropped = max(line.dropped, messages.dropped(count))
        sizes = messages.headers["length"][:count].astype(np.int64)
        data = messages.data[:count].copy()
        data[:, :4] = messages.data[:count, :4].copy().view("=u4").astype(">u4").view(np.uint8).reshape(-1, 4)
        is_fd = sizes == FD_BYTES
        data[:, 5] = np.where(is_fd, data[:, 5] | FD_FDF, 0)
        data[is_fd, 7] = 0
        whole = is_fd | (sizes == CLASSIC_BYTES)
        size = np.where(whole, sizes, 0)
        at = np.arange(count, dtype=np.int64) * FD_BYTES
        bus = np.full(count, place, np.uint8)
        packets = Packets(data.ravel(), True, at, size, size, times, bus, messages.own(count))
        batch, refused = self._decoder.decode(packets)
        self._skipped += int(np.count_nonzero(refused))
        return batch

    def lost(self) -> Lost:
        """What the kernel says it dropped."""
        return Lost(kernel=sum(line.dropped + line.dropped_before for line in self._lines))

    def skipped(self) -> int:
        """Messages that were no frames."""
        return self._skipped

    def said(self) -> list[str]:
        """What is to be known of the times."""
        untimed = f"{self._untimed} frames came without a time of the kernel: they have that of their reading"
        return [untimed] if self._untimed else []

    def _close(self) -> None:
        for line in self._lines:
            if line.socket is not None:
                line.socket.close()
                line.socket = None

    def close(self) -> None:
        """Close the sockets."""
        self._close()


def _bus(one: Interface) -> Bus:
    return Bus(
        one.name,
        one.bit_rate or USUAL_RATE,
        one.fast_bit_rate or USUAL_FAST_RATE,
        assumed=not one.bit_rate,
        fast_assumed=not one.fast_bit_rate,
    )


def open_socket(name: str, only: Sequence[IdFilter] | None) -> CanSocket:
    """A raw socket at an interface.

    Raises:
        SourceGone: it cannot be had; says what to do.
    """
    made: Any = None
    try:
        made = socket.socket(PF_CAN, socket.SOCK_RAW, CAN_RAW)
        set_up(made, only)
        made.bind((name,))
    except OSError as error:
        if made is not None:
            made.close()
        raise SourceGone(name, _why_gone(error, name)) from None
    if not any(one.name == name and one.is_up for one in interfaces.interfaces()):
        made.close()
        raise SourceGone(name, _why_gone(OSError(errno.ENETDOWN, ""), name))
    return Raw(made)


def _why_gone(error: OSError, name: str) -> str:
    """Why an interface cannot be read, and what to do about it."""
    if error.errno in (errno.EAFNOSUPPORT, errno.EPROTONOSUPPORT):
        return "this kernel has no CAN; sudo modprobe can_raw loads it, where there is one"
    if error.errno == errno.ENODEV:
        return "there is no such interface; keel sources lists those there are"
    if error.errno == errno.ENETDOWN:
        return f"the interface is down; {interfaces.command_for(name, USUAL_RATE)} takes it up, only listening"
    if error.errno in (errno.EPERM, errno.EACCES):
        return "you may not read it; run keel as root, or let an administrator permit raw CAN sockets"
    return f"cannot be read ({error.strerror})"


def read_only(text: str) -> tuple[IdFilter, ...]:
    """Filters by an ask that names identifiers.

    Raises:
        InputError: it asks for something else.
    """
    from keel.ask.language import parse
    from keel.ask.terms import Ids
    from keel.model.identity import Form

    expected = "identifiers, as id:1A0,220 or id:18FE??17"
    try:
        node = parse(text)
    except AskError as error:
        raise InputError("--only", str(error), expected) from None
    if not isinstance(node, Ids):
        raise InputError("--only", f"the kernel cannot filter by “{text}”", expected)
    ranges = []
    for one in node.ranges:
        if one.form not in (Form.BASE, Form.EXTENDED):
            raise InputError("--only", f"“{one}” is no identifier of CAN", expected)
        ranges.append((one.low, one.high, one.mask, one.form == Form.EXTENDED))
    filters = tuple(filters_of(ranges))
    if len(filters) > MOST_FILTERS:
        raise InputError("--only", f"takes {len(filters)} filters", f"ranges that take at most {MOST_FILTERS}")
    return filters


def _open(given: Given) -> Source:
    return SocketCan(given.places, given.values["only"])


def there() -> list[Offer]:
    """The CAN interfaces of the machine."""
    found = []
    for one in interfaces.interfaces():
        rate = f"{one.bit_rate / 1000:g} kbit/s" if one.bit_rate else "virtual" if one.is_virtual else "no rate set"
        mode = ", only listening" if one.listens_only else ""
        problem = "" if one.is_up else f"it is down; {interfaces.command_for(one.name, one.bit_rate or USUAL_RATE)}"
        found.append(Offer(KIND.given(one.name), "CAN interface", rate + mode, problem))
    return found


def _try_out(given: Given, stopped: Callable[[], bool]) -> Verdict:
    return try_interfaces(given, stopped, lambda name: SocketCan([name]))


KIND = Kind(
    "can",
    "CAN interfaces of the kernel",
    _open,
    where="interface, or several: can0,can1",
    needs_where=True,
    parameters=(
        Parameter("only", "which identifiers the kernel hands over", None, (), read_only, "identifiers, as id:1A0,220"),
    ),
    there=there,
    try_out=_try_out,
    example="can:can0, or can:can0,can1",
)
