"""Serial ports as a source: one that listens, or two joined as one conversation."""

from __future__ import annotations

import os
import select
import time
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from keel.bench.controls import Control
from keel.errors import ControlError
from keel.media.serial import HOST, TALKER
from keel.model.bus import Bus
from keel.model.frames import Flag, FrameBatch, concat, empty_batch
from keel.sources.kind import YES_NO, Given, Kind, Offer, Parameter, span_ns, whole_number, yes_or_no
from keel.sources.serial_line import Framing, Open, Port, Unmarker, open_port
from keel.sources.source import Source, SourceGone
from keel.sources.splitting import Split, Splitter, delimiter_of, frames_of
from keel.sources.trying_serial import try_serial

READ_BYTES = 1 << 16
ORDER = (
    "two ports, one conversation: which side spoke first is only known as well as the adapters' latency, 1 to 16 ms "
    "with USB; response times are off by as much"
)
ON_OFF = ("off", "on")


@dataclass
class _Side:
    """A port, and who is heard there."""

    path: str
    form: int
    flags: int
    splitter: Splitter
    unmarker: Unmarker
    port: Port | None = None


class SerialSource(Source):
    """What comes in at one port, or at two: the first hears the host, the second the device."""

    controls = (
        Control("dtr", "data terminal ready", "off", ON_OFF, words="a control line of the port; some devices restart"),
        Control("rts", "request to send", "off", ON_OFF, words="a control line of the port"),
    )

    def __init__(
        self, paths: Sequence[str], framing: Framing, split: Split, host: bool = False, opened: Open = open_port
    ) -> None:
        """Open the ports.

        Args:
            paths: One port, or two.
            framing: How bytes are sent.
            split: How messages are told.
            host: Whether a single port hears the host.
            opened: Opens a port.

        Raises:
            SourceGone: one cannot be opened.
        """
        super().__init__()
        self._framing, self._opened = framing, opened
        name = Path(paths[0]).name
        self.title = f"serial {' and '.join(paths)}, {framing.words}"
        self.buses = [Bus(name, framing.rate, medium="serial", stamp="start", assumed=False)]
        self.remarks = (ORDER,) if len(paths) > 1 else ()
        self._lines = {"dtr": "off", "rts": "off"}
        hears_host = [host] if len(paths) == 1 else [True, False]
        self._sides = [
            _Side(
                path,
                HOST.number if is_host else TALKER.number,
                int(Flag.TX) if is_host else 0,
                Splitter(split),
                Unmarker(framing.parity != "none"),
            )
            for path, is_host in zip(paths, hears_host, strict=True)
        ]
        self._open()

    def _open(self) -> None:
        try:
            for side in self._sides:
                if side.port is None:
                    side.port = self._opened(side.path, self._framing)
        except SourceGone:
            self._close()
            raise

    def reopen(self) -> None:
        """Open them again after one was unplugged."""
        self._close()
        self._open()
        for name, value in self._lines.items():
            if value == "on":
                with suppress(ControlError):
                    self.control(name, value)

    def poll(self, wait_s: float = 0.0) -> FrameBatch:
        """The messages that are whole."""
        by_file = {side.port.fileno(): side for side in self._sides if side.port is not None}
        ready = select.select(list(by_file), [], [], wait_s)[0]
        now = time.time_ns()
        made: list[FrameBatch] = []
        for file, side in by_file.items():
            messages = side.splitter.idle(now) if file not in ready else []
            if file in ready:
                try:
                    assert side.port is not None
                    data = side.port.read(READ_BYTES)
                    if not data:
                        raise OSError("no data")
                except (OSError, TypeError) as error:
                    raise self._gone(side, error) from None
                now = time.time_ns()
                plain, faults = side.unmarker.take(data)
                messages = side.splitter.take(plain, now, faults)
            if messages:
                made.append(frames_of(messages, side.form, side.flags))
        if not made:
            return empty_batch()
        batch = concat(made)
        return batch.take(batch.time.argsort(kind="stable")) if len(made) > 1 else batch

    def finish(self) -> FrameBatch:
        """What was begun and not ended."""
        rest = [frames_of(side.splitter.rest(), side.form, side.flags) for side in self._sides]
        return concat([batch for batch in rest if len(batch)])

    def _gone(self, side: _Side, error: Exception) -> SourceGone:
        there = os.path.exists(side.path)  # noqa: PTH110
        self._close()
        return SourceGone(side.path, f"cannot be read ({error})" if there else "it was unplugged")

    def control(self, name: str, value: str) -> None:
        """Set a control line."""
        control = next((one for one in self.controls if one.name == name), None)
        if control is None:
            raise ControlError(f"{self.title} has no control {name}")
        value = control.check(value)
        for side in self._sides:
            if side.port is not None:
                try:
                    setattr(side.port, name, value == "on")
                except OSError as error:
                    raise ControlError(f"{name} cannot be set ({error})") from None
        self._lines[name] = value

    def state(self) -> dict[str, Any]:
        """How the control lines stand."""
        return dict(self._lines)

    def _close(self) -> None:
        for side in self._sides:
            if side.port is not None:
                # It may be gone already.
                with suppress(OSError):
                    side.port.close()
                side.port = None

    def close(self) -> None:
        """Close the ports."""
        self._close()


def there() -> list[Offer]:
    """The ports of the machine."""
    from serial.tools import list_ports

    found = []
    for port in sorted(list_ports.comports(), key=lambda one: str(one.device)):
        known = str(port.description) if port.description and port.description != "n/a" else ""
        found.append(Offer(KIND.given(str(port.device)), "serial port", known))
    return found


_STOPS = {"1": 1.0, "1.5": 1.5, "2": 2.0}
PARAMETERS = (
    Parameter("rate", "bit/s", 9600, (), *whole_number(50, 12_000_000)),
    Parameter("bits", "data bits of a byte", 8, ("5", "6", "7", "8"), int),
    Parameter("parity", "parity bit", "none", ("none", "odd", "even", "mark", "space")),
    Parameter("stop", "stop bits", 1.0, tuple(_STOPS), _STOPS.__getitem__),
    Parameter("split", "how messages are told", "gap", ("gap", "delimiter", "length")),
    Parameter("gap", "silence that ends a message", 0, (), span_ns, "a time with its unit, as 5ms"),
    Parameter("delimiter", "what ends a message", b"\n", (), delimiter_of, "lf, cr, crlf, nul, or bytes in hex"),
    Parameter("length", "bytes of a message", 1, (), *whole_number(1, 65536)),
    Parameter("host", "whether a single port hears the host", False, YES_NO, yes_or_no),
)


def framing_of(given: Given) -> Framing:
    """How bytes are sent, as it was said."""
    values = given.values
    return Framing(values["rate"], values["bits"], values["parity"], values["stop"])


def _split_of(given: Given, framing: Framing) -> Split:
    values, how = given.values, given.values["split"]
    if "split" not in given.said:
        # Who says how long a message is, or what ends it, means to split so.
        how = next((name for name in ("delimiter", "length") if name in given.said), how)
    return Split(how, framing.byte_ns, values["gap"], values["delimiter"], values["length"])


def _open(given: Given) -> Source:
    from keel.errors import InputError

    places = given.places
    if not 1 <= len(places) <= 2:
        raise InputError(f"--from {given.spec}", f"names {len(places)} ports", "one port, or two: host,device")
    framing = framing_of(given)
    return SerialSource(places, framing, _split_of(given, framing), given.values["host"])


KIND = Kind(
    "serial",
    "serial ports",
    _open,
    where="port, or two: host,device",
    needs_where=True,
    parameters=PARAMETERS,
    there=there,
    try_out=try_serial,
    example="serial:/dev/ttyUSB0 rate=115200 delimiter=lf",
)
