"""Classic pcap captures of link type 227: both byte orders, micro- and nanoseconds.

Source: the pcap file format (IETF draft-ietf-opsawg-pcap).
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numba import njit

from keel.errors import InputError
from keel.formats.canrecord import LINK_TYPE, records_to_frames, take_record
from keel.formats.canrecord import REASONS as RECORD_REASONS
from keel.formats.reader import Account, Format, Progress, read_with
from keel.model.frames import Bytes, FrameBatch

HEADER_BYTES = 24
MAGICS = {
    b"\xa1\xb2\xc3\xd4": ("big", 1000),
    b"\xd4\xc3\xb2\xa1": ("little", 1000),
    b"\xa1\xb2\x3c\x4d": ("big", 1),
    b"\x4d\x3c\xb2\xa1": ("little", 1),
}
REASONS = (*RECORD_REASONS, "record is cut short", "record length is not believable; the rest cannot be read")
CUT, UNBELIEVABLE = 4, 5
MOST_RECORD_BYTES = 1 << 18


@njit(cache=True, nogil=True)
def word_at(buffer: Any, at: Any, little: Any) -> Any:
    """Four bytes as an integer."""
    a, b = np.int64(buffer[at]), np.int64(buffer[at + 1])
    c, d = np.int64(buffer[at + 2]), np.int64(buffer[at + 3])
    if little:
        return a | b << 8 | c << 16 | d << 24
    return d | c << 8 | b << 16 | a << 24


@njit(cache=True, nogil=True)
def _parse(buffer: Any, little: bool, ns: int, time: Any, out: Any, data: Any, number: Any, bad: Any) -> Any:
    """Parse records; returns frames, payload bytes and where it stopped, -1 if nothing after can be read."""
    n = used = at = 0
    end = len(buffer)
    while at + 16 <= end:
        captured = word_at(buffer, at + 8, little)
        if captured > MOST_RECORD_BYTES:
            took = -UNBELIEVABLE
        elif at + 16 + captured > end:
            break
        else:
            took = take_record(buffer, at + 16, captured, word_at(buffer, at + 12, little), n, used, out, data)
        number[0] += 1
        if took < 0:
            if bad[-took, 0] == 0:
                bad[-took, 1] = number[0]
            bad[-took, 0] += 1
            if took == -UNBELIEVABLE:
                return n, used, -1
        else:
            time[n] = word_at(buffer, at, little) * 1_000_000_000 + word_at(buffer, at + 4, little) * ns
            n += 1
            used += took
        at += 16 + captured
    return n, used, at


class PcapParser:
    """Reads a capture piece by piece."""

    def __init__(self, account: Account, where: str = "pcap") -> None:
        self._account, self._where = account, where
        self._order: tuple[bool, int] | None = None
        self._number = np.zeros(1, np.int64)
        self._bad = np.zeros((len(REASONS), 2), np.int64)
        self._broken = False
        account.bus_names = ["bus0"]

    def feed(self, buffer: Bytes, final: bool) -> tuple[list[FrameBatch], int]:
        """Read whole records.

        Raises:
            InputError: the link type is another, or the file ends within its header.
        """
        at = 0
        if self._order is None:
            if len(buffer) < HEADER_BYTES:
                if not final:
                    return [], 0
                raise InputError(
                    self._where, f"ends after {len(buffer)} bytes", f"a pcap header of {HEADER_BYTES} bytes"
                )
            self._order = self._read_header(buffer[:HEADER_BYTES].tobytes())
            at = HEADER_BYTES
        if self._broken:
            return [], len(buffer)
        room = len(buffer) // 24 + 1
        time = np.empty(room, np.int64)
        out = tuple(np.empty(room, kind) for kind in (np.int64, np.uint8, np.uint8, np.int64))
        data = np.empty(len(buffer) + 64, np.uint8)
        little, ns = self._order
        n, used, stopped = _parse(buffer[at:], little, ns, time, out, data, self._number, self._bad)
        for reason, (count, first) in enumerate(self._bad):
            if count:
                self._account.skipped[REASONS[reason]] = int(count)
                self._account.examples.setdefault(REASONS[reason], f"record {first}")
        self._broken = stopped < 0
        at = len(buffer) if self._broken else at + stopped
        if final and at < len(buffer):
            self._account.skip(REASONS[CUT], f"record {int(self._number[0]) + 1}")
            at = len(buffer)
        if not n:
            return [], at
        word, fd, dlc, length = (column[:n] for column in out)
        nobody = np.zeros(n, np.bool_)
        return [records_to_frames(time[:n], np.zeros(n, np.uint8), word, fd, dlc, length, data[:used], nobody)], at

    def _read_header(self, header: bytes) -> tuple[bool, int]:
        order, ns = MAGICS[header[:4]]
        link = int.from_bytes(header[20:24], "big" if order == "big" else "little") & 0xFFFF
        if link != LINK_TYPE:
            raise InputError(self._where, f"link type {link}", f"link type {LINK_TYPE} (CAN)")
        return order == "little", ns


def read(path: Path, account: Account, progress: Progress) -> Iterator[FrameBatch]:
    """Read a capture in blocks.

    Raises:
        InputError: the link type is another, or the file ends within its header.
    """
    return read_with(PcapParser(account, str(path)), path, account, progress)


def _recognises(head: bytes) -> str | None:
    if head[:4] not in MAGICS:
        return None
    order, ns = MAGICS[head[:4]]
    return f"begins with a pcap header, {order}-endian, {'nanoseconds' if ns == 1 else 'microseconds'}"


FORMAT = Format("pcap (link type 227)", _recognises, read, PcapParser)
