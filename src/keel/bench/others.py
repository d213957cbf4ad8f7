"""The lines aboard that are no CAN: crew tags over the air, a ticket terminal on USB, a depth sounder on a serial line.

What is sent when depends on the seed alone, event by event, so that it is the same however time is cut. Packets are
built from the public layouts and read as captures are.

Source: Bluetooth Core Specification 5.4, volume 6, part B, 2.3 (advertising PDUs); the link type descriptions
(LINKTYPE_BLUETOOTH_LE_LL_WITH_PHDR, LINKTYPE_USB_LINUX_MMAPPED); NMEA 0183 (sentences and their checksum).
"""

from __future__ import annotations

import math
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from keel.formats.ble_packets import ADVERTISING_ACCESS, BleDecoder, crc24
from keel.formats.packets import Decoder, Packets
from keel.formats.usb_packets import UsbDecoder
from keel.media.serial import HOST, TALKER
from keel.model.bus import Bus
from keel.model.frames import Flag, FrameBatch, batch_of, concat, replace_columns
from keel.model.units import NS_PER_S

MS = 1_000_000
OTHER_BUSES = [
    Bus("tags", 1_000_000, medium="ble", stamp="start", assumed=False),
    Bus("ticket", 12_000_000, medium="usb", stamp="start", assumed=False),
    Bus("depth", 4_800, medium="serial", stamp="start", assumed=False),
]
LATEST_NS = 20 * MS
"""So long after it began an event's last packet is sent, at most."""
CHANNELS = ((37, 0), (38, 12), (39, 39))
"""The advertising channels, and the RF channels they are on."""


@dataclass(frozen=True)
class Tag:
    """A crew tag: its address, name, how far away it is worn, in dBm, and how often it is heard wrongly."""

    address: str
    name: str
    strength: float
    walks_s: float
    spoilt: float = 0.0


TAGS = (
    Tag("C2:54:45:52:4E:01", "crew helm", -48.0, 97.0),
    Tag("C2:54:45:52:4E:02", "crew deck", -66.0, 41.0, 0.01),
    Tag("C2:54:45:52:4E:03", "crew engine", -79.0, 63.0, 0.04),
)
TAG_NS, STATUS_NS, ASK_NS, DEPTH_NS = 500 * MS, 250 * MS, 2_000 * MS, 1_000 * MS
SPOKEN_NS, ASKED_NS, SERIAL = 310 * MS, 120 * MS, 2
"""When in each second the sounder speaks, how long before it is asked; and its bus."""
DEVICE, STATUS_IN, TEXT_OUT, TEXT_IN = 4, 0x82, 0x01, 0x81
SUBMIT, COMPLETE = ord("S"), ord("C")
INTERRUPT, CONTROL, BULK = 1, 2, 3
PENDING = -115


class Event(NamedTuple):
    """Something that is sent: when it begins, in ns from the start of the voyage, its bus, and its packets, each a time
    and bytes; and whether the host sends it, where that is not in the packets."""

    begins: int
    bus: int
    packets: list[tuple[int, bytes]]
    is_host: bool = False


class OtherLines:
    """What is sent on them, stretch after stretch."""

    def __init__(self, seed: int) -> None:
        self._seed = seed
        self._waiting: list[Event] = []
        self._decoders: tuple[Decoder, Decoder] = (BleDecoder(True), UsbDecoder(220))

    def between(self, begin: int, end: int, first_bus: int, start_ns: int) -> FrameBatch:
        """The frames of events that begin from ``begin`` to ``end``, both in ns from the start of the voyage.

        Args:
            begin, end: The stretch.
            first_bus: The index of the first of `OTHER_BUSES`.
            start_ns: When the voyage started, in ns since 1970.
        """
        events = [*self._tags(begin, end), *self._ticket(begin, end), *self._sounder(begin, end)]
        events.sort(key=lambda event: (event.begins, event.bus))
        made = [self._read(bus, [event for event in events if event.bus == bus], start_ns) for bus in (0, 1)]
        made.append(_said([event for event in events if event.bus == SERIAL], start_ns))
        for bus, batch in enumerate(made):
            made[bus] = replace_columns(batch, bus=np.full(len(batch), first_bus + bus, np.uint8))
        return concat([batch for batch in made if len(batch)])

    def _chance(self, what: int, number: int) -> np.random.Generator:
        return np.random.default_rng([self._seed, 7, what, number])

    def _read(self, bus: int, events: list[Event], start_ns: int) -> FrameBatch:
        packets = [packet for event in events for packet in event.packets]
        times = np.array([time for time, _ in packets], np.int64) + start_ns
        sizes = np.array([len(data) for _, data in packets], np.int64)
        buffer = np.frombuffer(b"".join(data for _, data in packets), np.uint8)
        at = np.cumsum(sizes) - sizes
        none = np.zeros(len(packets), np.uint8)
        captured = Packets(buffer, True, at, sizes, sizes, times, none, none.astype(np.bool_))
        return self._decoders[bus].decode(captured)[0]

    def _tags(self, begin: int, end: int) -> Iterator[Event]:
        for which, tag in enumerate(TAGS):
            phase = (which + 1) * 130 * MS
            for number, due in _due(begin, end, TAG_NS, phase):
                chance = self._chance(which, number)
                at = due + int(chance.integers(0, 10)) * MS
                body = _advertising(tag, number)
                strength = tag.strength + 7 * math.sin(2 * math.pi * due / NS_PER_S / tag.walks_s)
                packets = []
                for place, (_, rf) in enumerate(CHANNELS):
                    rssi = round(strength - place + chance.normal(0, 1.2))
                    crc = bytearray(_crc_of(body))
                    crc[0] ^= 0x20 if chance.random() < tag.spoilt else 0
                    head = struct.pack("<BbbBIH", rf, max(rssi, -110), -100, 0, ADVERTISING_ACCESS, 0x0013)
                    packets.append((at + place * 400_000, head + struct.pack("<I", ADVERTISING_ACCESS) + body + crc))
                yield Event(due, 0, packets)

    def _ticket(self, begin: int, end: int) -> Iterator[Event]:
        for number, due in _due(begin, end, STATUS_NS, 40 * MS):
            # Paper, lid, and how many tickets are left on the roll.
            left = max(400 - number // 8, 0)
            yield _exchange(due, number * 4 + 1, INTERRUPT, STATUS_IN, b"", struct.pack("<BBH", 1, 0, left), 300_000)
        for number, due in _due(begin, end, ASK_NS, 900 * MS):
            chance = self._chance(11, number)
            took = int(chance.integers(2, 12)) * MS
            kind = ("ADULT", "CHILD", "BIKE")[int(chance.integers(0, 3))]
            answer = f"SOLD {number:04d} {kind}\r\n".encode()
            asked = _exchange(due, number * 4 + 2, BULK, TEXT_OUT, f"SELL {kind}\r\n".encode(), b"", 200_000)
            answered = _exchange(due + MS, number * 4 + 3, BULK, TEXT_IN, b"", answer, took)
            yield Event(due, 1, asked.packets + answered.packets)
        for number, due in _due(begin, end, 1 << 60, 5 * MS):
            # Plugged in at the start: who are you?
            setup = bytes.fromhex("8006000100001200")
            who = bytes.fromhex("1201000200000040 54451000 0001 0102 0301".replace(" ", ""))
            yield _exchange(due, number * 4, CONTROL, 0x80, b"", who, 400_000, setup)

    def _sounder(self, begin: int, end: int) -> Iterator[Event]:
        for _, due in _due(begin, end, DEPTH_NS, SPOKEN_NS - ASKED_NS):
            yield Event(due, SERIAL, [(due, b"$CCSDQ,DPT*2A\r\n")], True)
        for number, due in _due(begin, end, DEPTH_NS, SPOKEN_NS):
            chance = self._chance(20, number)
            depth = 6.5 + 3.5 * math.sin(number / 47) + 0.8 * math.sin(number / 6.3) + chance.normal(0, 0.05)
            words = f"SDDPT,{depth:.1f},0.4,"
            checksum = 0
            for byte in words.encode():
                checksum ^= byte
            at = due + int(chance.integers(0, 5)) * MS
            yield Event(due, SERIAL, [(at, f"${words}*{checksum:02X}\r\n".encode())])


def _said(events: list[Event], start_ns: int) -> FrameBatch:
    """What is said on a serial line, the host's part and the device's."""
    form = [HOST.number if event.is_host else TALKER.number for event in events for _ in event.packets]
    packets = [packet for event in events for packet in event.packets]
    times = np.array([time for time, _ in packets], np.int64) + start_ns
    took = np.array([round(len(data) * 10 * NS_PER_S / 4_800) for _, data in packets], np.int64)
    is_host = np.array(form, np.uint8) == HOST.number
    return batch_of(
        times, 0, [data for _, data in packets], form=np.array(form, np.uint8),
        flags=np.where(is_host, int(Flag.TX), 0).astype(np.uint16), dlc=0, duration=took,
    )  # fmt: skip


def _due(begin: int, end: int, every: int, phase: int) -> Iterator[tuple[int, int]]:
    """Number and time of what is due each so many ns."""
    number = max(-(-(begin - phase) // every), 0)
    while (due := phase + number * every) < end:
        yield number, due
        number += 1


def _advertising(tag: Tag, number: int) -> bytes:
    """An undirected advertisement that cannot be connected to: flags, name, battery, a running count."""
    charge = max(96 - number // 1200, 1)

    def part(kind: int, value: bytes) -> bytes:
        return bytes([len(value) + 1, kind]) + value

    said = part(0x01, b"\x04") + part(0x09, tag.name.encode()) + part(0x16, b"\x0f\x18" + bytes([charge]))
    said += part(0xFF, b"\xff\xff" + struct.pack("<H", number & 0xFFFF))
    payload = bytes.fromhex(tag.address.replace(":", ""))[::-1] + said
    return bytes([0x42, len(payload)]) + payload


def _crc_of(body: bytes) -> bytes:
    return crc24(body).to_bytes(3, "little")


def _exchange(
    due: int, tag: int, transfer: int, endpoint: int, asked: bytes, answer: bytes, took: int, setup: bytes | None = None
) -> Event:
    """A request and its answer."""

    def packet(at: int, event: int, status: int, length: int, data: bytes) -> bytes:
        head = struct.pack("<QBBBBH", 0xFFFF_8801_0000_0000 + tag * 64, event, transfer, endpoint, DEVICE, 1)
        begins = event == SUBMIT and setup is not None
        head += bytes([0 if begins else ord("-"), 0 if data else ord("<")])
        head += struct.pack("<qiiII", at // NS_PER_S, at % NS_PER_S // 1000, status, length, len(data))
        return head + (setup if begins and setup else bytes(8)) + struct.pack("<iiII", 0, 0, 0, 0) + data

    length = len(asked) or max(len(answer), 8)
    return Event(
        due,
        1,
        [
            (due, packet(due, SUBMIT, PENDING, length, asked)),
            (due + took, packet(due + took, COMPLETE, 0, len(answer) or len(asked), answer)),
        ],
    )
