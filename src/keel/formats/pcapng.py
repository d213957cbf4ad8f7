"""pcapng captures: sections of both byte orders, several interfaces of several link types, comments, cut last blocks.

Packets (enhanced, simple, and the obsolete packet block) become frames; what a section, an interface or a packet
says in a comment is kept; dropped frames from interface statistics are counted. Other blocks are passed over.
A simple packet has no time: it is kept at the time of the packet before it.

Source: the pcapng file format (IETF draft-ietf-opsawg-pcapng), sections 4.1 to 4.6.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from keel.errors import InputError
from keel.formats.frametext import apply_frame_text
from keel.formats.linktypes import LINK_TYPES
from keel.formats.packets import Decoding, Packets
from keel.formats.pcap import word_at
from keel.formats.pcapng_scan import COMMENT, CROWDED_OUT, ENHANCED, MOST_BLOCK_BYTES, OTHER, scan
from keel.formats.reader import Account, Format, Progress, read_with
from keel.model.bus import MOST_BUSES, bus_name
from keel.model.frames import Bytes, FrameBatch, Rows, concat, replace_columns
from keel.model.safe_text import plain

SECTION, INTERFACE, OLD_PACKET, SIMPLE, STATISTICS = 0x0A0D0D0A, 1, 2, 3, 5
MAGIC_LITTLE, MAGIC_BIG = b"\x4d\x3c\x2b\x1a", b"\x1a\x2b\x3c\x4d"
IF_NAME, IF_DESCRIPTION, IF_TSRESOL, IF_TSOFFSET, IF_DROP = 2, 3, 9, 14, 5
CUT, BROKEN = "last block is cut short", "block length is not believable; the rest cannot be read"
NO_TIME = "simple packets have no time: they stand at the time of the packet before"
NO_OFFSET = "its time offset is not believable and was left out"
OTHER_LINK, NO_INTERFACE = "packet of a link type that is not known", "packet of an interface that was not described"
MOST_OFFSET_S = 9_000_000_000
"""What reaches beyond what nanoseconds since 1970 in 64 bits can say is no time."""
MOST_STAMP = np.uint64(2**63 - 1)
_REASONS = ("", "packet longer than its block", OTHER_LINK, NO_INTERFACE, "packet of a time that is not believable")
MEDIUM_SAID = "keel medium "
"""What an interface's comment says of a bus of a kind that has no link type begins so."""
CROWDED = f"frames of more than {MOST_BUSES} buses"


@dataclass
class _Section:
    """What holds until the next section header: byte order and interfaces; of each its bus and its link type."""

    little: bool
    links: list[int] = field(default_factory=list)
    kinds: list[int] = field(default_factory=list)
    scale: list[tuple[int, int, int, int]] = field(default_factory=list)
    snap: list[int] = field(default_factory=list)


class PcapngParser:
    """Reads a capture piece by piece."""

    def __init__(self, account: Account, where: str = "pcapng") -> None:
        self._account, self._where = account, where
        self._section: _Section | None = None
        self._number = np.zeros(1, np.int64)
        self._blocks = self._given = 0
        self._bad = np.zeros((len(_REASONS) + 1, 2), np.int64)
        self._decodings: dict[int, Decoding] = {}
        self._others: set[int] = set()
        self._broken = False
        self._extra: list[FrameBatch] = []
        self._last: int | None = None
        self._untimed: list[FrameBatch] = []
        self._simple = 0

    def feed(self, buffer: Bytes, final: bool) -> tuple[list[FrameBatch], int]:
        """Read whole blocks.

        Raises:
            InputError: it does not begin with a section header.
        """
        batches: list[FrameBatch] = []
        at = 0
        while not self._broken and at + 12 <= len(buffer):
            if self._section is not None:
                batch, used = self._packets(buffer[at:])
                if batch is not None:
                    batches += self._timed(batch)
                at += used
                if used:
                    continue
            size = self._other(buffer, at)
            batches += self._extra
            self._extra = []
            if size == 0:
                break
            at += size
        self._report()
        if self._broken:
            return batches, len(buffer)
        if final and at < len(buffer):
            self._account.skip(CUT, f"byte {len(buffer) - at} from the end")
            at = len(buffer)
        if final and self._untimed:
            batches += self._untimed
            self._untimed = []
        return batches, at

    def _packets(self, buffer: Bytes) -> tuple[FrameBatch | None, int]:
        section = self._section
        assert section is not None
        if len(buffer) < 12 or word_at(buffer, 0, section.little) != ENHANCED:
            return None, 0
        room = len(buffer) // 32 + 1
        kinds = (np.int64, np.int64, np.bool_, np.int64, np.int64, np.int64, np.int64)
        out: Any = tuple(np.empty(room, kind) for kind in kinds)
        notes = np.zeros((1024, 3), np.int64)
        links = np.array(section.links, np.int64)
        scale = np.array(section.scale, np.int64).reshape(-1, 4)
        latest = np.array([_latest(*one) for one in section.scale], np.uint64)
        n, noted, at = scan(buffer, section.little, links, scale, latest, out, notes, self._number, self._bad)
        if not n:
            return None, at
        time, interface, sent, starts, captured, original, numbers = (column[:n] for column in out)
        bus = links.astype(np.uint8)[interface]
        packets = Packets(buffer, section.little, starts, captured, original, time, bus, sent)
        batch, rows = self._decoded(packets, np.array(section.kinds)[interface], numbers)
        place = np.full(n, -1, np.int64)
        place[rows] = np.arange(len(rows))
        exact: dict[int, str] = {}
        for packet, start, size in notes[:noted].tolist():
            if place[packet] < 0:
                continue
            text = buffer[start : start + size].tobytes().decode("utf-8", "replace")
            if text.startswith("keel frame "):
                exact[int(place[packet])] = text
            else:
                self._account.comments.append((self._given + int(place[packet]), plain(text, 1000)))
        self._given += len(batch)
        return (apply_frame_text(batch, exact) if len(batch) else None), at

    def _decoded(self, packets: Packets, kinds: Any, numbers: Rows) -> tuple[FrameBatch, Rows]:
        """The frames of packets of several link types, in the order of the file, and which packet each was."""
        found = []
        for kind in np.unique(kinds).tolist():
            decoding = self._decodings.setdefault(kind, Decoding(LINK_TYPES[kind], self._account, "packet"))
            rows = np.flatnonzero(kinds == kind)
            whole = len(rows) == len(packets)
            batch, kept = decoding.decode(packets if whole else packets.take(rows), numbers[rows])
            found.append((batch, rows[kept]))
        if len(found) == 1:
            return found[0]
        places = np.concatenate([rows for _, rows in found])
        order = np.argsort(places)
        return concat([batch for batch, _ in found]).take(order), places[order]

    def _timed(self, batch: FrameBatch) -> list[FrameBatch]:
        """A batch with times, after those without that came before any time was known."""
        waiting = [_at(one, int(batch.time[0])) for one in self._untimed]
        self._untimed = []
        self._last = int(batch.time[-1])
        return [*waiting, batch]

    def _other(self, buffer: Bytes, at: int) -> int:
        """Take a block that is no enhanced packet; returns its size, 0 if it is not all there."""
        if buffer[at : at + 4].tobytes() == b"\x0a\x0d\x0d\x0a":
            magic = buffer[at + 8 : at + 12].tobytes()
            if magic not in (MAGIC_LITTLE, MAGIC_BIG):
                self._break("section header without its byte-order mark")
                return 0
            little = magic == MAGIC_LITTLE
        elif self._section is None:
            raise InputError(self._where, "does not begin with a section header", "a pcapng capture")
        else:
            little = self._section.little
        kind, size = (int(word_at(buffer, at + k, little)) for k in (0, 4))
        if size < 12 or size % 4 or size > MOST_BLOCK_BYTES:
            self._break(BROKEN)
            return 0
        if at + size > len(buffer):
            return 0
        self._blocks += 1
        body = buffer[at + 8 : at + size - 4].tobytes()
        order = "<" if little else ">"
        try:
            self._take(kind, body, order, little)
        except struct.error:
            self._account.skip("block too short for what it is", f"block {self._blocks}")
        return size

    def _break(self, reason: str) -> None:
        self._account.skip(reason, f"block {self._blocks + int(self._number[0]) + 1}")
        self._broken = True

    def _take(self, kind: int, body: bytes, order: str, little: bool) -> None:
        if kind == SECTION:
            self._section = _Section(little)
            self._say(_options(body[16:], order), "the capture")
        elif kind == INTERFACE:
            self._interface(body, order)
        elif kind == STATISTICS:
            for code, value in _options(body[12:], order):
                if code == IF_DROP and len(value) == 8:
                    self._account.lost += struct.unpack(order + "Q", value)[0]
        elif kind == SIMPLE:
            (original,) = struct.unpack_from(order + "I", body)
            assert self._section is not None
            snap = self._section.snap[0] if self._section.snap else 0
            held = min(original, len(body) - 4, snap or original)
            batch = self._single(struct.pack(order + "IIIII", 0, 0, 0, held, original) + body[4:], order)
            if batch is not None:
                self._simple += 1
                if self._last is None:
                    self._untimed.append(batch)
                else:
                    self._extra.append(_at(batch, self._last))
        elif kind == OLD_PACKET:
            # Interface and drop count share a word there; the rest is as in an enhanced packet.
            interface, drops = struct.unpack_from(order + "HH", body)
            batch = self._single(struct.pack(order + "I", interface) + body[4:], order)
            if batch is not None:
                self._extra += self._timed(batch)
            self._account.lost += drops if drops != 0xFFFF else 0

    def _single(self, body: bytes, order: str) -> FrameBatch | None:
        """The frame of the body of an enhanced packet."""
        body += bytes(-len(body) % 4)
        size = len(body) + 12
        again = struct.pack(order + "II", ENHANCED, size) + body + struct.pack(order + "I", size)
        return self._packets(np.frombuffer(again, np.uint8))[0]

    def _say(self, options: list[tuple[int, bytes]], of_what: str) -> None:
        for code, value in options:
            if code == COMMENT and not value.startswith(MEDIUM_SAID.encode()):
                self._account.notes.append(f"{of_what} says: {plain(value.decode('utf-8', 'replace'), 500)}")

    def _interface(self, body: bytes, order: str) -> None:
        assert self._section is not None
        (link,) = struct.unpack_from(order + "H", body)
        options = _options(body[8:], order)
        values = dict(reversed(options))
        resolution = (values.get(IF_TSRESOL) or b"\x06")[0]
        (offset,) = struct.unpack(order + "q", values[IF_TSOFFSET]) if len(values.get(IF_TSOFFSET, b"")) == 8 else (0,)
        number = len(self._section.links)
        name = values.get(IF_NAME) or values.get(IF_DESCRIPTION)
        title = bus_name(name.decode("utf-8", "replace").rstrip("\0")) if name else f"bus{number}"
        said = next((text for code, text in options if code == COMMENT and text.startswith(MEDIUM_SAID.encode())), b"")
        self._section.links.append(self._bus(title, link, said.decode("utf-8", "replace")))
        self._section.kinds.append(link)
        self._section.snap.append(struct.unpack_from(order + "I", body, 4)[0])
        exponent = resolution & 0x7F
        if abs(offset) > MOST_OFFSET_S:
            self._account.notes.append(f"interface {title}: {NO_OFFSET}")
            offset = 0
        shift = offset * 1_000_000_000
        if resolution & 0x80:
            self._section.scale.append((1, 1, min(exponent, 63), shift))
        else:
            digits = min(exponent, 18)
            self._section.scale.append((10 ** max(9 - digits, 0), 10 ** max(digits - 9, 0), -1, shift))
        self._say(options, f"interface {title}")

    def _bus(self, title: str, link: int, said: str) -> int:
        """The bus that an interface is; -1 if its link type is not known, -2 if there are too many."""
        if link not in LINK_TYPES:
            self._others.add(link)
            return -1
        known, medium = self._account.bus_names, plain(said.removeprefix(MEDIUM_SAID), 40) or LINK_TYPES[link].medium
        if title in known and self._account.media[title] != medium:
            # A bus is of one kind of line.
            title = f"{title} {medium}"
        if title not in known and len(known) < MOST_BUSES:
            known.append(title)
            self._account.media[title] = medium
        return known.index(title) if title in known else -2

    def _report(self) -> None:
        if self._simple:
            self._account.once(NO_TIME, f"{self._simple} {NO_TIME}")
        for reason, (count, first) in enumerate(self._bad):
            if count and reason == CROWDED_OUT:
                self._account.lose(CROWDED, f"packet {first}", int(count))
            elif count:
                said = _REASONS[reason]
                if reason == OTHER:
                    self._account.once(OTHER_LINK, f"its link types: {', '.join(map(str, sorted(self._others)))}")
                self._account.skipped[said] = int(count)
                self._account.examples.setdefault(said, f"packet {first}")


def _latest(multiply: int, divide: int, binary: int, shift: int) -> int:
    """The greatest time stamp of an interface that nanoseconds in 64 bits can say."""
    most = int(MOST_STAMP) - max(shift, 0)
    stamp = (most * divide // multiply) if binary < 0 else most // 1_000_000_000 << binary
    return min(stamp, 2**64 - 1)


def _at(batch: FrameBatch, time: int) -> FrameBatch:
    return replace_columns(batch, time=np.full(len(batch), time, np.int64))


def _options(data: bytes, order: str) -> list[tuple[int, bytes]]:
    found: list[tuple[int, bytes]] = []
    at = 0
    while at + 4 <= len(data):
        code, length = struct.unpack_from(order + "HH", data, at)
        if code == 0 or at + 4 + length > len(data):
            break
        found.append((code, data[at + 4 : at + 4 + length]))
        at += 4 + (length + 3 & ~3)
    return found


def read(path: Path, account: Account, progress: Progress) -> Iterator[FrameBatch]:
    """Read a capture in blocks.

    Raises:
        InputError: it does not begin with a section header.
    """
    return read_with(PcapngParser(account, str(path)), path, account, progress)


def _recognises(head: bytes) -> str | None:
    if head[:4] != b"\x0a\x0d\x0d\x0a" or head[8:12] not in (MAGIC_LITTLE, MAGIC_BIG):
        return None
    return f"begins with a pcapng section, {'little' if head[8:12] == MAGIC_LITTLE else 'big'}-endian"


FORMAT = Format("pcapng", _recognises, read, PcapngParser)
