"""A serial port of the machine, as the rest of Keel works with it.

The operating system marks bytes that came with a fault: 255, 0, then the byte; a byte 255 is doubled. A marked 0 is a
break. Source: POSIX.1-2017, 11.2.2 (PARMRK).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Protocol

from keel.model.faults import Fault
from keel.sources.source import SourceGone

MARK = 0xFF


class Port(Protocol):
    """What is needed of an open port; pySerial's has it."""

    dtr: bool
    rts: bool

    def fileno(self) -> int:
        """Its file descriptor."""

    def read(self, size: int) -> bytes:
        """What is there, at most so many bytes; does not wait."""

    def write(self, data: bytes) -> Any:
        """Send bytes."""

    def close(self) -> None:
        """Close it."""


@dataclass(frozen=True)
class Framing:
    """How bytes are sent: bit/s, data bits, parity by its first letter, stop bits."""

    rate: int = 9600
    bits: int = 8
    parity: str = "none"
    stop: float = 1.0

    @property
    def byte_ns(self) -> int:
        """How long a byte takes, start, parity and stop bits included."""
        return round((1 + self.bits + (self.parity != "none") + self.stop) * 1e9 / self.rate)

    @property
    def words(self) -> str:
        """In words, as ``9600 bit/s 8N1``."""
        return f"{self.rate} bit/s {self.bits}{self.parity[0].upper()}{self.stop:g}"


Open = Callable[[str, Framing], Port]


def open_port(path: str, framing: Framing) -> Port:
    """Open a port; nothing is sent, and its control lines stay as they are at rest.

    Raises:
        SourceGone: it is not there, in use, or not permitted; says what to do.
    """
    import serial

    port = serial.Serial()
    try:
        port.baudrate, port.bytesize = framing.rate, framing.bits
        port.parity, port.stopbits = framing.parity[0].upper(), framing.stop
        port.timeout, port.exclusive = 0, True
        port.dtr = port.rts = False
        port.port = path
        port.open()
        _mark_faults(port.fileno(), framing)
    except (OSError, ValueError) as error:
        port.close()
        raise SourceGone(path, why_not(error, path)) from None
    found: Port = port
    return found


def _mark_faults(file: int, framing: Framing) -> None:
    """Have the system mark bytes that came with a fault."""
    import termios

    attributes: list[Any] = termios.tcgetattr(file)
    attributes[0] |= termios.PARMRK | (termios.INPCK if framing.parity != "none" else 0)
    attributes[0] &= ~(termios.IGNPAR | termios.IGNBRK | termios.BRKINT | termios.ISTRIP)
    termios.tcsetattr(file, termios.TCSANOW, attributes)


def why_not(error: Exception, path: str) -> str:
    """Why a port cannot be opened, and what to do about it."""
    import errno

    number = getattr(error, "errno", None)
    said = str(error).lower()
    if number == errno.ENOENT or "no such file" in said:
        return "there is no such port; keel sources lists those there are"
    if number == errno.EACCES or "permission" in said:
        return "you may not open it; become a member of the group that owns it (ls -l), often dialout"
    if number in (errno.EBUSY, errno.EWOULDBLOCK) or "exclusively lock" in said or "busy" in said:
        return "another program uses it"
    return f"cannot be opened ({error})"


@dataclass
class Unmarker:
    """Takes the marks out of what the system hands over, and tells which bytes they were about."""

    parity: bool
    _open: bytes = b""

    def take(self, data: bytes) -> tuple[bytes, list[tuple[int, int]]]:
        """Bytes as they were sent, and places and faults of those that came wrongly."""
        data = self._open + data
        self._open = b""
        if MARK not in data:
            return data, []
        out, faults, at = bytearray(), [], 0
        while at < len(data):
            if data[at] != MARK:
                out.append(data[at])
                at += 1
            elif at + 1 < len(data) and data[at + 1] == MARK:
                out.append(MARK)
                at += 2
            elif at + 1 < len(data) and data[at + 1] != 0:
                # Not doubled: the system does not mark.
                out.append(MARK)
                at += 1
            elif at + 2 < len(data):
                byte = data[at + 2]
                kind = Fault.BREAK if byte == 0 else Fault.PARITY if self.parity else Fault.FRAMING
                faults.append((len(out), int(kind)))
                out.append(byte)
                at += 3
            else:
                self._open = data[at:]
                break
        return bytes(out), faults
