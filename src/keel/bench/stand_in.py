"""A stand-in for a serial CAN adapter: a pseudo-terminal that answers as one does, at bus B of the ferry.

At another rate than the bus has it hears only faults, as an adapter would.
"""

from __future__ import annotations

import os
import pty
import select
import time
import tty
from contextlib import suppress
from pathlib import Path

import numpy as np
from platformdirs import user_state_path

from keel.bench.ferry import Ferry
from keel.bench.messages import BUSES
from keel.formats.adapter_lines import RATES, frame_line
from keel.model.frames import FrameBatch
from keel.model.identity import NO_IDENT

BUS = 1
"""Bus B: what such adapters can say is classic CAN."""
BUS_ERROR, WARNING = 0x80, 0x04
TURN_S = 0.02
NAME = "adapter"


def _folder() -> Path:
    return Path(user_state_path("keel")) / "adapters"


def stand_ins() -> list[Path]:
    """Those that are running, by the links that lead to them."""
    found = []
    for link in sorted(_folder().glob(f"{NAME}*")):
        if link.is_symlink() and link.exists():
            found.append(link)
    return found


def a_link() -> Path:
    """Where a new one may have its link."""
    folder = _folder()
    folder.mkdir(parents=True, exist_ok=True)
    number = 1
    while True:
        link = folder / (NAME if number == 1 else f"{NAME}-{number}")
        if not link.exists():
            link.unlink(missing_ok=True)
            return link
        number += 1


class StandIn:
    """The adapter. `turn` does what is due; `close` unplugs it."""

    def __init__(self, link: Path, seed: int = 1) -> None:
        """Open a pseudo-terminal and lead the link to it."""
        self._ferry, self._began = Ferry(seed, time.time_ns()), time.monotonic()
        self._master, slave = pty.openpty()
        tty.setraw(slave)
        os.set_blocking(self._master, False)
        self.path, self.link = os.ttyname(slave), link
        # Kept open: else its end would be seen each time somebody closes the port.
        self._slave = slave
        link.unlink(missing_ok=True)
        link.symlink_to(self.path)
        self._typed = b""
        self._rate = 0
        self._open = self._times = False
        self._flags = 0

    @property
    def bit_rate(self) -> int:
        """That of the bus."""
        return BUSES[BUS].bit_rate

    def turn(self, wait_s: float = TURN_S) -> None:
        """Answer what was asked, and hand over the frames that came."""
        if select.select([self._master], [], [], wait_s)[0]:
            with suppress(OSError):
                self._typed += os.read(self._master, 4096)
        *whole, self._typed = self._typed.split(b"\r")
        for line in whole:
            self._say(self._answer(line.decode("ascii", "replace")))
        batch = self._ferry.advance(time.monotonic() - self._began - self._ferry.elapsed_s)
        mine = batch.take(np.flatnonzero((batch.bus == BUS) & (batch.form != NO_IDENT)))
        if self._open and len(mine):
            if self._rate == self.bit_rate:
                self._say(self._lines(mine))
            else:
                self._flags |= BUS_ERROR | WARNING

    def _lines(self, batch: FrameBatch) -> bytes:
        stamps = batch.time // 1_000_000 % 60_000
        good = np.flatnonzero(batch.faults == 0).tolist()
        said = [frame_line(batch, i, int(stamps[i]) if self._times else None) for i in good]
        faulty = int(np.count_nonzero(batch.faults))
        self._flags |= BUS_ERROR if faulty else 0
        return b"".join(said)

    def _answer(self, line: str) -> bytes:
        """What a command is answered with."""
        word, rest = line[:1], line[1:]
        if not line:
            return b"\r"
        if word == "V":
            return b"V1013\r"
        if word == "N":
            return b"NTERN\r"
        if word == "F":
            flags, self._flags = self._flags, 0
            return f"F{flags:02X}\r".encode() if self._open else b"\a"
        if word == "C":
            was, self._open = self._open, False
            return b"\r" if was else b"\a"
        if word in "SZ" and not self._open and len(rest) == 1 and rest.isdecimal():
            if word == "S" and int(rest) < len(RATES):
                self._rate = RATES[int(rest)]
                return b"\r"
            if word == "Z" and rest in "01":
                self._times = rest == "1"
                return b"\r"
        if word in "OL" and not rest and not self._open and self._rate:
            self._open, self._flags = True, 0
            return b"\r"
        return b"\a"

    def _say(self, data: bytes) -> None:
        # Nobody reads: what does not fit is lost, as an adapter's buffer overflows.
        with suppress(OSError):
            os.write(self._master, data)

    def close(self) -> None:
        """Unplug it."""
        self.link.unlink(missing_ok=True)
        for file in (self._slave, self._master):
            with suppress(OSError):
                os.close(file)
