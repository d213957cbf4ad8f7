"""Things that are plugged in for tests: pseudo-terminals, ports of our own, an adapter that stands in."""

from __future__ import annotations

import contextlib
import os
import pty
import socket
import threading
import tty
from collections.abc import Callable, Iterator
from pathlib import Path

from keel.bench.stand_in import StandIn
from keel.sources.serial_line import Framing, Port
from keel.sources.source import SourceGone


class Line:
    """A serial line: a pseudo-terminal whose far end is `write`; its near end is found at ``path``."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.master, self._slave = pty.openpty()
        tty.setraw(self._slave)
        path.unlink(missing_ok=True)
        path.symlink_to(os.ttyname(self._slave))

    def write(self, data: bytes) -> None:
        os.write(self.master, data)

    def unplug(self) -> None:
        """Pull it out: whoever reads sees the end."""
        self.path.unlink(missing_ok=True)
        for file in (self._slave, self.master):
            with contextlib.suppress(OSError):
                os.close(file)


class FakePort:
    """A port whose bytes are given: what is written is answered by a function."""

    dtr = rts = False

    def __init__(self, answer: Callable[[bytes], bytes] = lambda _: b"", first: bytes = b"") -> None:
        self._near, self._far = socket.socketpair()
        self._answer = answer
        self.written = b""
        self.closed = False
        if first:
            self._far.sendall(first)

    def fileno(self) -> int:
        return self._near.fileno()

    def read(self, size: int) -> bytes:
        return self._near.recv(size)

    def write(self, data: bytes) -> int:
        self.written += data
        if said := self._answer(data):
            self._far.sendall(said)
        return len(data)

    def say(self, data: bytes) -> None:
        self._far.sendall(data)

    def hang_up(self) -> None:
        self._far.close()

    def close(self) -> None:
        self.closed = True
        self._near.close()


def opening(*ports: FakePort) -> Callable[[str, Framing], Port]:
    """Opens these ports one after another; then there is none any more."""
    waiting = list(ports)

    def opened(path: str, framing: Framing) -> Port:
        if not waiting:
            raise SourceGone(path, "there is no such port")
        return waiting.pop(0)

    return opened


@contextlib.contextmanager
def standing_in(link: Path, seed: int = 1) -> Iterator[StandIn]:
    """An adapter that works behind the test until it is pulled out."""
    stand_in, stop = StandIn(link, seed), threading.Event()

    def work() -> None:
        while not stop.is_set():
            stand_in.turn(0.01)

    thread = threading.Thread(target=work)
    thread.start()
    try:
        yield stand_in
    finally:
        stop.set()
        thread.join()
        stand_in.close()
