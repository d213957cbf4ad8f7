"""A port on this machine as a source: whoever connects sends a stream, as the far end of a tunnel does."""

from __future__ import annotations

import select
import socket

from keel.errors import InputError
from keel.formats.reader import Format
from keel.model.frames import FrameBatch, empty_batch
from keel.sources.kind import Given, Kind, whole_number
from keel.sources.pipe import AS, read_as
from keel.sources.source import Source
from keel.sources.stream import StreamSource

LOOPBACK = "127.0.0.1"


class TcpSource(StreamSource):
    """One sender at a time may connect, from this machine alone; when it ends, the source has ended."""

    def __init__(self, port: int, as_format: Format | None = None) -> None:
        """Listen.

        Raises:
            InputError: the port is taken, or may not be had.
        """
        self._listener = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
        self._listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            self._listener.bind((LOOPBACK, port))
            self._listener.listen(1)
        except OSError as error:
            self._listener.close()
            raise InputError(f"tcp:{port}", f"cannot be listened at ({error.strerror})", "a free port") from None
        self._sender: socket.socket | None = None
        super().__init__(self._listener.fileno(), f"port {port}", read_as=as_format)

    @property
    def port(self) -> int:
        """The port that is listened at."""
        return int(self._listener.getsockname()[1])

    def poll(self, wait_s: float = 0.0) -> FrameBatch:
        """The frames since the last call; none before somebody connects."""
        if self._sender is None:
            if not select.select([self._listener], [], [], wait_s)[0]:
                return empty_batch()
            self._sender, _ = self._listener.accept()
            self._file = self._sender.fileno()
            # Nobody else is taken: two streams in one are neither.
            self._listener.close()
        return super().poll(wait_s)

    def _read(self) -> bytes:
        try:
            return super()._read()
        except OSError:
            # The connection broke: what came is kept, and that it broke off shows in what is cut.
            self.account.notes.append(f"{self._what}: the connection broke")
            return b""

    def close(self) -> None:
        """Close the connection, and the port."""
        for one in (self._sender, self._listener):
            if one is not None:
                one.close()


def _open(given: Given) -> Source:
    read, takes = whole_number(1, 65535)
    try:
        port = read(given.where)
    except ValueError:
        raise InputError(f"--from tcp:{given.where}", "is no port", takes) from None
    return TcpSource(port, read_as(given))


KIND = Kind(
    "tcp",
    "a port on this machine, for the end of a tunnel",
    _open,
    where="port",
    needs_where=True,
    parameters=(AS,),
    example="tcp:9000",
)
