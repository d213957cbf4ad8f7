"""pcapng captures, written: one section, each bus with its own link type, nanoseconds, directions.

A frame that a packet of its link type cannot say in full has it in a comment (`keel.formats.frametext`). A bus of a
kind that has no link type is written as CAN, and its interface says in a comment what it is.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
from numba import njit

from keel.formats.frametext import frame_text
from keel.formats.linktypes import LINK_TYPES, link_type_of
from keel.formats.packets import LinkType
from keel.formats.pcapng import IF_NAME, IF_TSRESOL, INTERFACE, MEDIUM_SAID, SECTION
from keel.formats.pcapng_scan import COMMENT, ENHANCED
from keel.model.bus import Bus
from keel.model.frames import Flag, FrameBatch

USER_APPLICATION, FLAGS = 4, 2


@njit(cache=True, nogil=True)
def _put(out: Any, at: Any, value: Any) -> Any:
    for k in range(4):
        out[at + k] = (value >> (8 * k)) & 0xFF
    return at + 4


@njit(cache=True, nogil=True)
def _write(out: Any, time: Any, interface: Any, heads: Any, sizes: Any, tails: Any, missing: Any, sent: Any,
           offsets: Any, data: Any, whole: Any, texts: Any, text_offsets: Any) -> int:  # fmt: skip
    """Write enhanced packet blocks; returns how many bytes they take."""
    at = 0
    for i in range(len(time)):
        start = at
        held = np.int64(0) if whole else offsets[i + 1] - offsets[i]
        tail = tails.shape[1] if missing[i] == 0 else 0
        captured = sizes[i] + held + tail
        at = _put(out, at, ENHANCED)
        at = _put(out, at + 4, interface[i])
        at = _put(out, at, time[i] >> 32)
        at = _put(out, at, time[i] & 0xFFFFFFFF)
        at = _put(out, at, captured)
        at = _put(out, at, captured + missing[i])
        for k in range(sizes[i]):
            out[at + k] = heads[i, k]
        at += sizes[i]
        for k in range(held):
            out[at + k] = data[offsets[i] + k]
        at += held
        for k in range(tail):
            out[at + k] = tails[i, k]
        at += tail
        for _ in range(-captured & 3):
            out[at] = 0
            at += 1
        length = text_offsets[i + 1] - text_offsets[i]
        if length:
            at = _put(out, at, COMMENT | length << 16)
            for k in range((length + 3) & ~3):
                out[at + k] = texts[text_offsets[i] + k] if k < length else 0
            at += (length + 3) & ~3
        if sent[i]:
            at = _put(out, at, FLAGS | 4 << 16)
            at = _put(out, at, 2)
        if length or sent[i]:
            at = _put(out, at, 0)
        total = at + 4 - start
        at = _put(out, at, total)
        _put(out, start + 4, total)
    return at


def _block(kind: int, body: bytes) -> bytes:
    size = len(body) + 12
    return struct.pack("<II", kind, size) + body + struct.pack("<I", size)


def _option(code: int, value: bytes) -> bytes:
    return struct.pack("<HH", code, len(value)) + value + bytes(-len(value) % 4)


class PcapngWriter:
    """Writes a capture. Each bus has an interface of its link type, and one more for frames that were of another."""

    def __init__(self, path: Path, buses: Sequence[Bus], notes: list[str], comments: dict[int, str]) -> None:
        self._file: BinaryIO = path.open("wb")
        self._buses, self._comments = buses, comments
        application = _option(USER_APPLICATION, b"Keel")
        said = b"".join(_option(COMMENT, note.encode()[:60_000]) for note in notes)
        header = struct.pack("<IHHq", 0x1A2B3C4D, 1, 0, -1) + said + application + _option(0, b"")
        self._file.write(_block(SECTION, header))
        self._interfaces: dict[tuple[int, int], int] = {}
        for place, bus in enumerate(buses):
            self._interface(place, link_type_of(bus.medium))

    def _interface(self, bus: int, link: LinkType) -> int:
        """The interface of a bus and a link type; described when it is first needed."""
        name = bus, link.number
        if name not in self._interfaces:
            medium = self._buses[bus].medium
            said = _option(COMMENT, f"{MEDIUM_SAID}{medium}".encode()) if medium != link.medium else b""
            options = _option(IF_NAME, self._buses[bus].name.encode()) + _option(IF_TSRESOL, b"\x09") + said
            self._file.write(_block(INTERFACE, struct.pack("<HHI", link.number, 0, 0) + options + _option(0, b"")))
            self._interfaces[name] = len(self._interfaces)
        return self._interfaces[name]

    def write(self, batch: FrameBatch, numbers: Any) -> None:
        """Add frames; ``numbers`` are theirs in the recording."""
        links = self._links(batch)
        # Stretches of one link type, so that frames stay in order.
        edges = np.flatnonzero(np.diff(links)) + 1
        for low, high in zip([0, *edges.tolist()], [*edges.tolist(), len(batch)], strict=True):
            if low < high:
                self._stretch(batch.slice(low, high), numbers[low:high], LINK_TYPES[int(links[low])])

    def _links(self, batch: FrameBatch) -> Any:
        """The link type of each frame."""
        links = np.zeros(len(batch), np.int64)
        for bus in np.unique(batch.bus).tolist():
            rows = np.flatnonzero(batch.bus == bus)
            medium = self._buses[bus].medium
            links[rows] = link_type_of(medium).number
            marks = batch.header[rows] if batch.header is not None else np.zeros((len(rows), 0), np.uint8)
            for link in LINK_TYPES.values():
                if link.medium == medium:
                    links[rows[link.wrote(marks)]] = link.number
        return links

    def _stretch(self, batch: FrameBatch, numbers: Any, link: LinkType) -> None:
        records = link.records(batch)
        texts = {row: frame_text(batch, row).encode() for row in np.flatnonzero(~records.says_all).tolist()}
        for row, number in enumerate(numbers.tolist() if self._comments else ()):
            if number in self._comments and row not in texts:
                texts[row] = self._comments[number].encode()[:60_000]
        ends = np.zeros(len(batch) + 1, np.int64)
        ends[1:] = np.cumsum([len(texts.get(row, b"")) for row in range(len(batch))]) if texts else 0
        joined = np.frombuffer(b"".join(texts[row] for row in sorted(texts)), np.uint8)
        places = np.zeros(256, np.int64)
        for bus in np.unique(batch.bus).tolist():
            places[bus] = self._interface(bus, link)
        held = 0 if records.whole else int(batch.lengths.sum())
        room = len(batch) * (60 + records.tails.shape[1]) + int(records.sizes.sum()) + held + len(joined)
        out = np.empty(room, np.uint8)
        used = _write(
            out, batch.time, places[batch.bus], records.heads, records.sizes.astype(np.int64), records.tails,
            records.missing.astype(np.int64), (batch.flags & np.uint16(Flag.TX)) != 0,
            np.ascontiguousarray(batch.offsets, np.int64), batch.data, records.whole, joined, ends,
        )  # fmt: skip
        self._file.write(out[:used].tobytes())

    def close(self) -> None:
        """Finish the file."""
        self._file.close()
