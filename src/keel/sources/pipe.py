"""Frames from standard input: a pcapng, pcap or text stream, read as it comes."""

from __future__ import annotations

import os
import select
import sys
from typing import Any

import numpy as np

from keel.errors import ControlError, InputError, UnknownFormat
from keel.formats.reader import Account, Parser
from keel.formats.registry import FORMATS
from keel.model.bus import Bus, Rates, bus_name
from keel.model.frames import FrameBatch, concat, empty_batch, replace_columns
from keel.signals.dictionary import Dictionary

READ_BYTES = 1 << 20
LOOK_BYTES = 1 << 12


class PipeSource:
    """What comes through a pipe. Buses turn up with their frames."""

    def __init__(self, file: int | None = None, rates: Rates = Rates()) -> None:  # noqa: B008
        """Read from a file descriptor, standard input if none is given."""
        self._file = sys.stdin.fileno() if file is None else file
        self._rates = rates
        self._left = b""
        self._parser: Parser | None = None
        self.account = Account()
        self.title = "pipe"
        self.buses: list[Bus] = []
        self.dictionary = Dictionary()
        self.ended = False

    def poll(self) -> FrameBatch:
        """The frames since the last call.

        Raises:
            UnknownFormat: nothing recognises what comes.
        """
        if self.ended or not select.select([self._file], [], [], 0)[0]:
            return empty_batch()
        data = os.read(self._file, READ_BYTES)
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

    def _recognise(self) -> bool:
        for known in FORMATS:
            if known.parser is not None and self._left and known.recognises(self._left):
                self._parser = known.parser(self.account)
                self.title = f"pipe: {known.name}"
                return True
        if self.ended and not self._left:
            raise InputError("the pipe", "ended without a byte", "a capture or log")
        if self.ended or len(self._left) > LOOK_BYTES:
            names = " or ".join(known.name for known in FORMATS if known.parser is not None)
            raise UnknownFormat("the pipe", "no format recognises what comes", names)
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

    def control(self, name: str, value: str) -> None:
        """There is nothing to work.

        Raises:
            ControlError: always.
        """
        raise ControlError(f"a pipe has no control {name} to set to {value}")

    def state(self) -> dict[str, Any]:
        """Nothing can be worked."""
        return {}

    def lost(self) -> int:
        """What the stream says was lost, and frames that could not be kept."""
        return self.account.missing

    def skipped(self) -> int:
        """Lines or packets that were no frames."""
        return self.account.skipped_total

    def said(self) -> list[str]:
        """What was skipped, and what the stream says of itself."""
        return self.account.sentences()

    def close(self) -> None:
        """Nothing to let go of."""
