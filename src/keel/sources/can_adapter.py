"""Serial CAN adapters that speak the ASCII line protocol of the kernel's serial-line CAN driver, as a source."""

from __future__ import annotations

import os
import re
import select
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import numpy as np

from keel.errors import InputError
from keel.formats.adapter_lines import RATES, faults_of, parse_lines
from keel.model.bus import Bus
from keel.model.frames import Flag, FrameBatch, batch_of, concat, empty_batch, replace_columns
from keel.model.identity import NO_IDENT
from keel.sources.adapter_clock import AdapterClock
from keel.sources.kind import YES_NO, Given, Kind, Offer, Parameter, Verdict, whole_number, yes_or_no
from keel.sources.serial_line import Framing, Open, Port, open_port
from keel.sources.source import Lost, Source, SourceGone
from keel.sources.trying_can import try_rates

READ_BYTES = 1 << 16
ANSWER_S = 1.0
"""So long an adapter may take to answer a command."""
QUIET_S = 0.1
"""What comes no later after the last byte belongs to it."""
STATUS_EVERY_S = 0.5
USUAL_BAUD = 115_200


class Adapter:
    """An adapter at a port: commands and what they are answered with."""

    def __init__(self, path: str, baud: int = USUAL_BAUD, opened: Open = open_port) -> None:
        """Open the port, and close the channel that somebody may have left open.

        Raises:
            SourceGone: it cannot be opened, or nothing answers.
        """
        self.path = path
        self.port: Port = opened(path, Framing(baud))
        self._left = b""
        try:
            # Whatever was begun before is ended, and what was on the way is thrown away.
            self._write(b"\r\rC\r")
            self._drain()
            if not self._is_there():
                raise SourceGone(path, "nothing answers there as an adapter does")
        except SourceGone:
            self.close()
            raise

    def _write(self, data: bytes) -> None:
        try:
            self.port.write(data)
        except OSError as error:
            raise SourceGone(self.path, f"cannot be written ({error})") from None

    def read(self, wait_s: float) -> bytes:
        """What came, with what was left; waits at most so long.

        Raises:
            SourceGone: it was unplugged.
        """
        try:
            if select.select([self.port.fileno()], [], [], wait_s)[0]:
                data = self.port.read(READ_BYTES)
                if not data:
                    raise OSError("no data")
                self._left += data
        except (OSError, TypeError, ValueError) as error:
            there = os.path.exists(self.path)  # noqa: PTH110
            raise SourceGone(self.path, f"cannot be read ({error})" if there else "it was unplugged") from None
        return self._left

    def keep(self, left: bytes) -> None:
        """What was not used of what `read` gave."""
        self._left = left

    def _drain(self) -> None:
        """Throw away what comes, until nothing does."""
        end = time.monotonic() + ANSWER_S
        self._left = b"?"
        while self._left and time.monotonic() < end:
            self._left = b""
            self.read(QUIET_S)
        self._left = b""

    def _is_there(self) -> bool:
        """Whether something answers as an adapter does, by its version. What came before is an answer to what was sent
        before, maybe late."""
        self._write(b"V\r")
        end = time.monotonic() + ANSWER_S
        heard = b""
        while (left := end - time.monotonic()) > 0:
            heard = self.read(left)
            if found := re.search(rb"V\w*\r", heard):
                self.keep(heard[found.end() :])
                return True
        # Some know no version, and refuse to tell it.
        self._left = b""
        return b"\a" in heard or b"\r" in heard

    def command(self, words: str) -> bool | None:
        """Send a command; whether it was taken or refused, None if nothing was answered in time."""
        self._write(words.encode("ascii") + b"\r")
        end = time.monotonic() + ANSWER_S
        while (left := end - time.monotonic()) > 0:
            data = self.read(left)
            at = min((place for place in (data.find(b"\r"), data.find(b"\a")) if place >= 0), default=-1)
            if at >= 0:
                self.keep(data[at + 1 :])
                return data[at : at + 1] == b"\r"
        return None

    def ask(self, words: str) -> None:
        """Send a command whose answer comes among the frames."""
        self._write(words.encode("ascii") + b"\r")

    def open_channel(self, rate: int, listen: bool) -> bool:
        """Set the rate and open the channel; whether times come with frames.

        Raises:
            SourceGone: it refuses.
        """
        if not self.command(f"S{RATES.index(rate)}"):
            raise SourceGone(self.path, f"the adapter refuses {rate / 1000:g} kbit/s")
        timed = bool(self.command("Z1"))
        if not self.command("L" if listen else "O"):
            what = "to only listen; listen=no has it take part" if listen else "to open the channel"
            raise SourceGone(self.path, f"the adapter refuses {what}")
        return timed

    def close(self) -> None:
        """Close the channel and the port."""
        with suppress(OSError):
            self._write(b"C\r")
        with suppress(OSError):
            self.port.close()


class CanAdapter(Source):
    """Frames of the bus that an adapter is at."""

    def __init__(
        self, path: str, rate: int, listen: bool = True, baud: int = USUAL_BAUD, opened: Open = open_port,
        now_ns: Callable[[], int] = time.time_ns,
    ) -> None:  # fmt: skip
        """Open it.

        Raises:
            SourceGone: it cannot be opened, does not answer, or refuses.
        """
        super().__init__()
        self._path, self._rate, self._listen, self._baud = path, rate, listen, baud
        self._opened, self._now_ns = opened, now_ns
        mode = "only listening" if listen else "taking part"
        self.title = f"CAN adapter {path}, {rate / 1000:g} kbit/s, {mode}"
        self.buses = [Bus(Path(path).name, rate, assumed=False)]
        self._adapter: Adapter | None = None
        self._clock = AdapterClock()
        self._skipped = self._bells = self._overruns = 0
        self._timed = True
        self._next_status = 0.0
        self.reopen()

    def reopen(self) -> None:
        """Open it, at first and after it was unplugged."""
        adapter = Adapter(self._path, self._baud, self._opened)
        try:
            self._timed = adapter.open_channel(self._rate, self._listen)
        except SourceGone:
            adapter.close()
            raise
        self._adapter, self._clock = adapter, AdapterClock()
        self._next_status = time.monotonic() + STATUS_EVERY_S

    def poll(self, wait_s: float = 0.0) -> FrameBatch:
        """The frames since the last call, and what the adapter said of faults as error frames."""
        adapter = self._adapter
        if adapter is None:
            raise SourceGone(self._path, "it is not open")
        try:
            if time.monotonic() >= self._next_status:
                self._next_status = time.monotonic() + STATUS_EVERY_S
                adapter.ask("F")
            data = adapter.read(wait_s)
        except SourceGone:
            self._adapter = None
            adapter.close()
            raise
        if not data:
            return empty_batch()
        now, parsed = self._now_ns(), parse_lines(data)
        adapter.keep(data[parsed.used :])
        self._skipped += parsed.wrong
        self._bells += parsed.bells
        frames = replace_columns(parsed.frames, time=self._clock.times(parsed.frames.time, now))
        errors = [made for line in parsed.others if (made := self._error(line, now)) is not None]
        return concat([batch for batch in (frames, *errors) if len(batch)])

    def _error(self, line: str, now: int) -> FrameBatch | None:
        """What the adapter says of itself as an error frame; None if it tells no fault."""
        faults, lost = faults_of(line)
        self._overruns += lost
        if not faults:
            return None
        return batch_of(
            np.array([now]), 0, [b""], form=NO_IDENT, flags=int(Flag.ERROR), dlc=0, faults=np.array([faults], np.uint32)
        )

    def lost(self) -> Lost:
        """How often the adapter said that it lost some; it does not say how many."""
        return Lost(source=self._overruns)

    def skipped(self) -> int:
        """Lines that began like frames and are none."""
        return self._skipped

    def said(self) -> list[str]:
        """What the adapter cannot, and what it said of itself."""
        said = []
        if not self._timed:
            said.append(f"{self._path}: the adapter gives no times: frames have that of their reading")
        if self._overruns:
            said.append(f"{self._path}: the adapter said {self._overruns} times that it lost frames, not how many")
        return said

    def close(self) -> None:
        """Close the channel and the port."""
        if self._adapter is not None:
            self._adapter.close()
            self._adapter = None


def _rate(text: str) -> int:
    rate = int(text)
    if rate not in RATES:
        raise ValueError(text)
    return rate


PARAMETERS = (
    Parameter("rate", "bit/s of the bus", 500_000, (), _rate, "one of " + ", ".join(map(str, RATES))),
    Parameter("listen", "whether it only listens", True, YES_NO, yes_or_no),
    Parameter("baud", "bit/s of the port", USUAL_BAUD, (), *whole_number(1200, 12_000_000)),
)


def _open(given: Given) -> Source:
    if len(given.places) != 1:
        raise InputError(f"--from {given.spec}", "names several ports", "one; give --from several times")
    return CanAdapter(given.places[0], given.values["rate"], given.values["listen"], given.values["baud"])


def there() -> list[Offer]:
    """Adapters that stand in for one. A real one shows as the serial port that it is."""
    from keel.bench.stand_in import stand_ins

    return [Offer(KIND.given(str(path)), "CAN adapter", "a stand-in") for path in stand_ins()]


def _try_out(given: Given, stopped: Callable[[], bool]) -> Verdict:
    return try_rates(given, stopped, lambda rate: CanAdapter(given.where, rate, True, given.values["baud"]))


KIND = Kind(
    "adapter",
    "serial CAN adapters",
    _open,
    where="port",
    needs_where=True,
    parameters=PARAMETERS,
    there=there,
    try_out=_try_out,
    example="adapter:/dev/ttyACM0 rate=250000",
)
