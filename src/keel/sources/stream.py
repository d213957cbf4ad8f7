"""Frames from a stream of bytes: a pcapng, pcap or text stream, or bytes of a serial line, read as it comes."""

from __future__ import annotations

import os
import select
import time

import numpy as np

from keel.errors import InputError, UnknownFormat
from keel.formats.reader import Account, Format, Parser
from keel.formats.registry import FORMATS
from keel.media.serial import TALKER
from keel.model.bus import Rates, bus_name
from keel.model.frames import Bytes, FrameBatch, concat, empty_batch, replace_columns
from keel.sources.source import Lost, Source
from keel.sources.splitting import Split, Splitter, frames_of

READ_BYTES = 1 << 20
LOOK_BYTES = 1 << 12
SHORT_WAIT_S = 0.02
"""So long a stream whose other end is not there yet is left alone."""


class ArrivingBytes:
    """Bytes of a serial line, stamped as they arrive: a line of text is a message, or what stands before a silence."""

    def __init__(self, account: Account) -> None:
        account.bus_names, account.media[SERIAL_BUS] = [SERIAL_BUS], "serial"
        self._splitter = Splitter(Split("delimiter", byte_ns=0))

    def feed(self, buffer: Bytes, final: bool) -> tuple[list[FrameBatch], int]:
        """Whole messages, of all that came."""
        messages = self._splitter.take(buffer.tobytes(), time.time_ns())
        messages += self._splitter.rest() if final else []
        return [frames_of(messages, TALKER.number)] if messages else [], len(buffer)


SERIAL_BUS = "serial"
ARRIVING = Format("bytes of a serial line", lambda _: None, lambda *_: iter(()), ArrivingBytes)


class StreamSource(Source):
    """What comes through a file descriptor. Buses turn up with their frames."""

    can_wait = True

    def __init__(
        self,
        file: int,
        what: str = "the pipe",
        rates: Rates = Rates(),  # noqa: B008
        read_as: Format | None = None,
    ) -> None:
        """Read from a file descriptor.

        Args:
            file: The descriptor; `close` leaves it open.
            what: What it is called where something is wrong with it.
            rates: The bit rates that were named.
            read_as: What it is read as; None to tell by what comes.
        """
        super().__init__()
        self._file, self._what, self._rates = file, what, rates
        self._left = b""
        self._begun = False
        self._parser: Parser | None = None
        self.account = Account()
        self.title = what.removeprefix("the ")
        if read_as is not None:
            assert read_as.parser is not None
            self._parser = read_as.parser(self.account)
            self.title += f": {read_as.name}"

    def poll(self, wait_s: float = 0.0) -> FrameBatch:
        """The frames since the last call.

        Raises:
            UnknownFormat: nothing recognises what comes.
        """
        if self.ended or not select.select([self._file], [], [], wait_s)[0]:
            return empty_batch()
        data = self._read()
        if not data and not self._begun and self._awaits(wait_s):
            return empty_batch()
        self._begun = True
        self.ended = not data
        self._left += data
        if self._parser is None and not self._recognise():
            return empty_batch()
        assert self._parser is not None
        batches, used = self._parser.feed(np.frombuffer(self._left, np.uint8), self.ended)
        self._left = self._left[used:]
        for batch in batches:
            self.account.took(batch)
        return self._with_buses(concat(batches)) if batches else empty_batch()

    def _read(self) -> bytes:
        """What is there; nothing at the end."""
        try:
            return os.read(self._file, READ_BYTES)
        except BlockingIOError:
            return b""

    def _awaits(self, wait_s: float) -> bool:
        """Whether an end before the first byte only means that nobody writes yet."""
        return False

    def _recognise(self) -> bool:
        for known in FORMATS:
            if known.parser is not None and self._left and known.recognises(self._left):
                self._parser = known.parser(self.account)
                self.title += f": {known.name}"
                return True
        if self.ended and not self._left:
            raise InputError(self._what, "ended without a byte", "a capture or log")
        if self.ended or len(self._left) > LOOK_BYTES:
            names = " or ".join(known.name for known in FORMATS if known.parser is not None)
            raise UnknownFormat(self._what, "no format recognises what comes", names)
        return False

    def _with_buses(self, batch: FrameBatch) -> FrameBatch:
        known = [bus.name for bus in self.buses]
        names = [bus_name(name) for name in self.account.bus_names]
        for name, given in zip(names, self.account.bus_names, strict=True):
            if name not in known:
                self.buses.append(self._rates.bus(name, self.account.media.get(given, "can")))
                known.append(name)
        index = np.array([known.index(name) for name in names], np.uint8)
        return replace_columns(batch, bus=index[batch.bus])

    def lost(self) -> Lost:
        """What the stream says was lost, and frames that could not be kept."""
        return Lost(source=self.account.missing)

    def skipped(self) -> int:
        """Lines or packets that were no frames."""
        return self.account.skipped_total

    def said(self) -> list[str]:
        """What was skipped, and what the stream says of itself."""
        return self.account.sentences()


class FifoSource(StreamSource):
    """A named pipe, waited for until somebody writes into it."""

    def __init__(self, path: str, read_as: Format | None = None) -> None:
        """Open it.

        Raises:
            InputError: it is not there, or is none.
        """
        try:
            if not _is_fifo(path):
                raise InputError(path, "is no named pipe", "what mkfifo makes; files are read with keel import")
            file = os.open(path, os.O_RDONLY | os.O_NONBLOCK)
        except OSError as error:
            raise InputError(path, f"cannot be read ({error.strerror})", "a named pipe") from None
        super().__init__(file, f"the pipe {path}", read_as=read_as)

    def _awaits(self, wait_s: float) -> bool:
        time.sleep(max(wait_s, SHORT_WAIT_S))
        return True

    def close(self) -> None:
        """Close it."""
        os.close(self._file)


def _is_fifo(path: str) -> bool:
    import stat

    return stat.S_ISFIFO(os.stat(path).st_mode)  # noqa: PTH116
