"""Captures built by hand from the public layouts, for tests: packets, and the files that hold them."""

from __future__ import annotations

import random
import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

ADVERTISING = 0x8E89BED6
SECOND = 1_000_000_000
START = 1_700_000_000 * SECOND


def crc24(pdu: bytes, init: int = 0x555555) -> bytes:
    """The CRC of a PDU as it is sent, bit by bit: x^24 + x^10 + x^9 + x^6 + x^4 + x^3 + x + 1."""
    register = init
    for byte in pdu:
        for bit in range(8):
            feedback = (register >> 23 & 1) ^ (byte >> bit & 1)
            register = register << 1 & 0xFFFFFF
            if feedback:
                register ^= 0x00065B
    # The register goes out from its most significant bit, and each byte's first bit is its least significant.
    bits = [register >> (23 - i) & 1 for i in range(24)]
    return bytes(sum(bits[8 * k + i] << i for i in range(8)) for k in range(3))


def address(text: str) -> bytes:
    """A device address as it is sent."""
    return bytes.fromhex(text.replace(":", ""))[::-1]


def pdu(kind: int, payload: bytes, tx_random: bool = False, rx_random: bool = False, ch_sel: bool = False) -> bytes:
    """An advertising PDU."""
    first = kind | ch_sel << 5 | tx_random << 6 | rx_random << 7
    return bytes([first, len(payload)]) + payload


def link_layer(body: bytes, access: int = ADVERTISING, init: int = 0x555555, spoil: int = 0) -> bytes:
    """A packet of link type 251; ``spoil`` is a mask over its last CRC byte."""
    crc = bytearray(crc24(body, init))
    crc[2] ^= spoil
    return struct.pack("<I", access) + body + bytes(crc)


RF = {37: 0, 38: 12, 39: 39, **{i: i + 1 for i in range(11)}, **{i: i + 2 for i in range(11, 37)}}
"""RF channels by channel index."""


def with_radio(packet: bytes, channel: int, rssi: int, flags: int = 0x0013) -> bytes:
    """A packet of link type 256: channel index and signal strength before one of type 251."""
    return struct.pack("<BbbBIH", RF[channel], rssi, -100, 0, ADVERTISING, flags) + packet


def usb(
    event: str, transfer: int, endpoint: int, tag: int, data: bytes = b"", *, device: int = 7, bus: int = 1,
    status: int = 0, length: int | None = None, setup: bytes | None = None, at: int = START, order: str = "<",
    long: bool = True, descriptors: int = 0, interval: int = 0,
) -> bytes:  # fmt: skip
    """A packet of link type 220, or 189 if not ``long``; bit 7 of the endpoint means towards the host."""
    asked = len(data) if length is None else length
    head = struct.pack(order + "QBBBBH", tag, ord(event), transfer, endpoint, device, bus)
    head += bytes([0 if setup is not None else ord("-"), 0 if data else ord("<")])
    head += struct.pack(order + "qiiII", at // SECOND, at % SECOND // 1000, status, asked, len(data) + 16 * descriptors)
    head += (setup or b"").ljust(8, b"\0") if transfer else struct.pack(order + "II", 0, descriptors)
    if long:
        head += struct.pack(order + "iiII", interval, 0, 0, descriptors)
    return head + bytes(16 * descriptors) + data


@dataclass(frozen=True)
class Packet:
    """A packet in a file: when, its bytes, the interface it came over, how many bytes of it are kept (None: all)."""

    time: int
    data: bytes
    interface: int = 0
    kept: int | None = None


def pcap(link: int, packets: Sequence[Packet], order: str = "<") -> bytes:
    """A pcap file with nanoseconds."""
    out = [struct.pack(order + "IHHiIII", 0xA1B23C4D, 2, 4, 0, 0, 1 << 24, link)]
    for one in packets:
        data = one.data[: one.kept]
        out.append(struct.pack(order + "IIII", one.time // SECOND, one.time % SECOND, len(data), len(one.data)) + data)
    return b"".join(out)


def pcapng(interfaces: Sequence[tuple[int, str]], packets: Sequence[Packet], order: str = "<") -> bytes:
    """A pcapng file with nanoseconds; interfaces are link types and names."""

    def block(kind: int, body: bytes) -> bytes:
        body += bytes(-len(body) % 4)
        return struct.pack(order + "II", kind, len(body) + 12) + body + struct.pack(order + "I", len(body) + 12)

    def option(code: int, value: bytes) -> bytes:
        return struct.pack(order + "HH", code, len(value)) + value + bytes(-len(value) % 4)

    out = [block(0x0A0D0D0A, struct.pack(order + "IHHq", 0x1A2B3C4D, 1, 0, -1))]
    for link, name in interfaces:
        out.append(block(1, struct.pack(order + "HHI", link, 0, 0) + option(2, name.encode()) + option(9, b"\x09")))
    for one in packets:
        data = one.data[: one.kept]
        head = struct.pack(
            order + "IIIII", one.interface, one.time >> 32, one.time & 0xFFFFFFFF, len(data), len(one.data)
        )
        out.append(block(6, head + data + bytes(-len(data) % 4)))
    return b"".join(out)


# Made-up traffic that a person can walk through.

LOCK, TAG, PHONE = "C6:12:34:56:78:9A", "00:1B:DC:07:32:11", "5A:90:11:22:33:44"


def ad(kind: int, value: bytes) -> bytes:
    """A piece of advertising data: length, kind, value."""
    return bytes([len(value) + 1, kind]) + value


def air(seconds: int, seed: int = 1) -> Iterator[Packet]:
    """Three devices: a gangway lock every 100 ms, a life-ring tag every second, a phone that looks about."""
    chance = random.Random(seed)
    for n in range(seconds * 10):
        begin = START + n * SECOND // 10 + chance.randrange(0, 10_000_000)
        state = n // 50 % 2
        says = ad(1, b"\x06") + ad(9, b"gangway lock") + ad(0xFF, bytes([0x34, 0x12, state, n % 256]))
        body = pdu(0, address(LOCK) + says, tx_random=True, ch_sel=True)
        for place, channel in enumerate((37, 38, 39)):
            if chance.random() < 0.95:
                spoil = 0x40 if chance.random() < 0.01 else 0
                rssi = -58 - chance.randrange(6) - 2 * place
                yield Packet(begin + place * 500_000, with_radio(link_layer(body, spoil=spoil), channel, rssi))
        if n % 10 == 3:
            charge = 90 - n // 100
            said = ad(1, b"\x04") + ad(0x16, b"\x0f\x18" + bytes([charge]))
            tag = pdu(2, address(TAG) + said)
            yield Packet(begin + 3_000_000, with_radio(link_layer(tag), 37, -79 - chance.randrange(4)))
            yield Packet(begin + 3_400_000, with_radio(link_layer(tag), 38, -81 - chance.randrange(4)))
        if n % 25 == 7:
            ask = pdu(3, address(PHONE) + address(LOCK), tx_random=True, rx_random=True)
            answer = pdu(4, address(LOCK) + ad(0x0A, b"\x04"), tx_random=True)
            yield Packet(begin + 4_000_000, with_radio(link_layer(ask), 39, -70 - chance.randrange(5)))
            yield Packet(begin + 4_300_000, with_radio(link_layer(answer), 39, -60 - chance.randrange(5)))


def plugged_in(seconds: int = 5, order: str = "<", long: bool = True) -> Iterator[Packet]:
    """A device that is asked who it is, then read by an interrupt endpoint, written to in bulk, and stalls once."""
    at, tag = START, 0xFFFF888012340000

    def exchange(transfer: int, endpoint: int, took: int, asked: bytes = b"", answer: bytes = b"", status: int = 0,
                 length: int = 0, setup: bytes | None = None) -> Iterator[Packet]:  # fmt: skip
        nonlocal at, tag
        tag += 64
        kind = {"device": 7, "bus": 1, "order": order, "long": long}
        begun = usb("S", transfer, endpoint, tag, asked, status=-115, length=length or len(asked), setup=setup,
                    at=at, **kind)  # type: ignore[arg-type]  # fmt: skip
        done = usb("C", transfer, endpoint, tag, answer, status=status, length=len(answer) or len(asked),
                   at=at + took, **kind)  # type: ignore[arg-type]  # fmt: skip
        yield Packet(at, begun)
        yield Packet(at + took, done)
        at += took + 100_000

    device = bytes.fromhex("1201000200000040 6b1d0300 0001 0102 0301".replace(" ", ""))
    yield from exchange(2, 0x80, 210_000, answer=device, length=18, setup=bytes.fromhex("8006000100001200"))
    name = "Tern sounder".encode("utf-16-le")
    text = bytes([len(name) + 2, 3]) + name
    yield from exchange(2, 0x80, 180_000, answer=text, length=255, setup=bytes.fromhex("800602030904ff00"))
    yield from exchange(2, 0x00, 90_000, setup=bytes.fromhex("0009010000000000"))
    yield from exchange(2, 0x80, 60_000, status=-32, length=4, setup=bytes.fromhex("8006000600000400"))
    for n in range(seconds * 50):
        at = START + 10_000_000 + n * 20_000_000
        depth = 430 + (n * 7) % 60
        yield from exchange(1, 0x81, 8_000_000, answer=struct.pack("<BHB", 1, depth, n & 0xFF), length=8)
        if n % 10 == 4:
            yield from exchange(3, 0x02, 125_000, asked=f"$SET,{n:04d}\r\n".encode())
