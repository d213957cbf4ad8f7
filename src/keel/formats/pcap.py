"""Classic pcap captures: both byte orders, micro- and nanoseconds.

Source: the pcap file format (IETF draft-ietf-opsawg-pcap).
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numba import njit

from keel.errors import InputError
from keel.formats.linktypes import LINK_TYPES, known_numbers
from keel.formats.packets import Decoding, Packets
from keel.formats.reader import Account, Format, Progress, read_with
from keel.model.frames import Bytes, FrameBatch

HEADER_BYTES = 24
MAGICS = {
    b"\xa1\xb2\xc3\xd4": ("big", 1000),
    b"\xd4\xc3\xb2\xa1": ("little", 1000),
    b"\xa1\xb2\x3c\x4d": ("big", 1),
    b"\x4d\x3c\xb2\xa1": ("little", 1),
}
CUT, UNBELIEVABLE = "record is cut short", "record length is not believable; the rest cannot be read"
MOST_RECORD_BYTES = 1 << 25


@njit(cache=True, nogil=True)
def word_at(buffer: Any, at: Any, little: Any) -> Any:
    """Four bytes as an integer."""
    a, b = np.int64(buffer[at]), np.int64(buffer[at + 1])
    c, d = np.int64(buffer[at + 2]), np.int64(buffer[at + 3])
    if little:
        return a | b << 8 | c << 16 | d << 24
    return d | c << 8 | b << 16 | a << 24


@njit(cache=True, nogil=True)
def _scan(buffer: Any, little: bool, ns: int, most: int, out: Any) -> Any:
    """Find records; returns how many, and where it stopped, -1 if nothing after can be read."""
    time, starts, kept, original = out
    n = at = 0
    end = len(buffer)
    while at + 16 <= end:
        captured = word_at(buffer, at + 8, little)
        if captured > most:
            return n, -1
        if at + 16 + captured > end:
            break
        time[n] = word_at(buffer, at, little) * 1_000_000_000 + word_at(buffer, at + 4, little) * ns
        starts[n], kept[n], original[n] = at + 16, captured, word_at(buffer, at + 12, little)
        n += 1
        at += 16 + captured
    return n, at


class PcapParser:
    """Reads a capture piece by piece."""

    def __init__(self, account: Account, where: str = "pcap") -> None:
        self._account, self._where = account, where
        self._order: tuple[bool, int] | None = None
        self._decoding: Decoding | None = None
        self._broken = False

    def feed(self, buffer: Bytes, final: bool) -> tuple[list[FrameBatch], int]:
        """Read whole records.

        Raises:
            InputError: the link type is none that is known, or the file ends within its header.
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
        assert self._decoding is not None
        little, ns = self._order
        rest = buffer[at:]
        out = tuple(np.empty(len(rest) // 16 + 1, np.int64) for _ in range(4))
        n, stopped = _scan(rest, little, ns, MOST_RECORD_BYTES, out)
        time, starts, captured, original = (column[:n] for column in out)
        nobody = np.zeros(n, np.uint8)
        packets = Packets(rest, little, starts, captured, original, time, nobody, nobody.view(np.bool_))
        batch = self._decoding.decode(packets)[0] if n else None
        self._broken = stopped < 0
        if self._broken:
            self._account.skip(UNBELIEVABLE, f"record {self._decoding.seen + 1}")
        at = len(buffer) if self._broken else at + stopped
        if final and at < len(buffer):
            self._account.skip(CUT, f"record {self._decoding.seen + 1}")
            at = len(buffer)
        return [batch] if batch is not None and len(batch) else [], at

    def _read_header(self, header: bytes) -> tuple[bool, int]:
        order, ns = MAGICS[header[:4]]
        link = int.from_bytes(header[20:24], "big" if order == "big" else "little") & 0xFFFF
        if link not in LINK_TYPES:
            raise InputError(self._where, f"link type {link}", f"one of the link types {known_numbers()}")
        known = LINK_TYPES[link]
        self._decoding = Decoding(known, self._account, "record")
        self._account.bus_names = ["bus0"]
        self._account.media["bus0"] = known.medium
        return order == "little", ns


def read(path: Path, account: Account, progress: Progress) -> Iterator[FrameBatch]:
    """Read a capture in blocks.

    Raises:
        InputError: the link type is none that is known, or the file ends within its header.
    """
    return read_with(PcapParser(account, str(path)), path, account, progress)


def _recognises(head: bytes) -> str | None:
    if head[:4] not in MAGICS:
        return None
    order, ns = MAGICS[head[:4]]
    return f"begins with a pcap header, {order}-endian, {'nanoseconds' if ns == 1 else 'microseconds'}"


FORMAT = Format("pcap", _recognises, read, PcapParser)
