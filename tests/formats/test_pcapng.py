"""pcapng, built block by block from the description."""

from __future__ import annotations

import struct
import tempfile
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.errors import InputError
from keel.formats import pcapng
from keel.formats.reader import Account
from keel.model.bus import MOST_BUSES
from keel.model.faults import Fault
from keel.model.frames import Flag, FrameBatch, concat


def block(order: str, kind: int, body: bytes) -> bytes:
    body += bytes(-len(body) % 4)
    return struct.pack(order + "II", kind, len(body) + 12) + body + struct.pack(order + "I", len(body) + 12)


def option(order: str, code: int, value: bytes) -> bytes:
    return struct.pack(order + "HH", code, len(value)) + value + bytes(-len(value) % 4)


def section(order: str = "<", options: bytes = b"") -> bytes:
    return block(order, 0x0A0D0D0A, struct.pack(order + "IHHq", 0x1A2B3C4D, 1, 0, -1) + options)


def interface(order: str = "<", options: bytes = b"", link: int = 227) -> bytes:
    return block(order, 1, struct.pack(order + "HHI", link, 0, 0) + options)


def packet(order: str, stamp: int, ident: int, payload: bytes, interface: int = 0, options: bytes = b"") -> bytes:
    data = struct.pack(">IBBBB", ident, len(payload), 0, 0, 0) + payload
    head = struct.pack(order + "IIIII", interface, stamp >> 32, stamp & 0xFFFFFFFF, len(data), len(data))
    return block(order, 6, head + data + bytes(-len(data) % 4) + options)


def read(content: bytes) -> tuple[FrameBatch, Account]:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "x"
        path.write_bytes(content)
        account = Account()
        return concat(list(pcapng.read(path, account, lambda *_: None))), account


@pytest.mark.parametrize("order", ["<", ">"])
@pytest.mark.parametrize(
    "resolution, stamp, ns",
    [
        (None, 1_700_000_000_123_456, 1_700_000_000_123_456_000),
        (9, 1_700_000_000_123_456_789, 1_700_000_000_123_456_789),
        (3, 1_700_000_000_123, 1_700_000_000_123_000_000),
        (12, 17_000_123_456_789_012, 17_000_123_456_789),
        (0x80 | 10, 3 * 1024 + 512, 3_500_000_000),
        (0x80 | 32, (5 << 32) + (1 << 31), 5_500_000_000),
    ],
)
def test_times_in_every_resolution(order: str, resolution: int | None, stamp: int, ns: int) -> None:
    options = b"" if resolution is None else option(order, 9, bytes([resolution]))
    found, account = read(section(order) + interface(order, options) + packet(order, stamp, 0x1A0, b"ab"))
    assert found.time.tolist() == [ns]
    assert found.payload(0) == b"ab" and not account.skipped


def test_an_offset_moves_the_times_of_its_interface_only() -> None:
    moved = interface("<", option("<", 14, struct.pack("<q", 3600)) + option("<", 2, b"gateway"))
    found, account = read(
        section()
        + interface()
        + moved
        + packet("<", 5, 1, b"", 0)
        + packet("<", 5, 2, b"", 1)
        + packet("<", 6, 3, b"", 0)
    )
    assert found.time.tolist() == [5000, 3_600_000_005_000, 6000]
    assert [account.bus_names[b] for b in found.bus] == ["bus0", "gateway", "bus0"]


def test_comments_directions_and_drops_are_kept() -> None:
    said = section(options=option("<", 1, b"sea trial") + option("<", 4, b"some program"))
    sent = packet("<", 1, 0x10, b"", options=option("<", 2, struct.pack("<I", 2)) + option("<", 1, "hé".encode()))
    received = packet("<", 2, 0x11, b"", options=option("<", 2, struct.pack("<I", 1)) + option("<", 0, b""))
    statistics = block("<", 5, struct.pack("<III", 0, 0, 0) + option("<", 5, struct.pack("<Q", 7)))
    found, account = read(said + interface() + sent + received + statistics)
    assert found.flags.tolist() == [Flag.TX, 0]
    assert account.comments == [(0, "hé")]
    assert account.notes == ["the capture says: sea trial"] and account.lost == 7


def test_old_packets_are_read_and_simple_ones_stand_at_the_time_before() -> None:
    data = struct.pack(">IBBBB", 0x1A0, 1, 0, 0, 0) + b"z"
    old = block("<", 2, struct.pack("<HHIIII", 0, 3, 0, 77, len(data), len(data)) + data)
    simple = block("<", 3, struct.pack("<I", len(data)) + data)
    found, account = read(section() + interface() + simple + old + simple + simple + packet("<", 78, 1, b""))
    assert found.time.tolist() == [77_000, 77_000, 77_000, 77_000, 78_000]
    assert [found.payload(i) for i in range(4)] == [b"z"] * 4
    assert account.skipped == {} and account.lost == 3
    assert f"3 {pcapng.NO_TIME}" in account.sentences()
    alone, _ = read(section() + interface() + simple)
    assert alone.time.tolist() == [0] and alone.payload(0) == b"z"


@pytest.mark.parametrize("order", ["<", ">"])
def test_a_simple_packet_that_was_cut_has_the_bytes_there_are(order: str) -> None:
    data = struct.pack(">IBBBB", 0x1A0, 8, 0, 0, 0) + b"12345678"
    snapped = block(order, 1, struct.pack(order + "HHI", 227, 0, 11))
    found, _ = read(section(order) + snapped + block(order, 3, struct.pack(order + "I", len(data)) + data[:11]))
    assert found.payload(0) == b"123" and found.faults.tolist() == [Fault.TRUNCATED] and found.dlc.tolist() == [8]


@pytest.mark.parametrize("offset", [1 << 62, -(1 << 62), (1 << 63) - 1])
def test_a_time_offset_that_cannot_be_is_left_out_and_said(offset: int) -> None:
    options = option("<", 14, struct.pack("<q", offset))
    found, account = read(section() + interface(options=options) + packet("<", 5, 1, b""))
    assert found.time.tolist() == [5000]
    assert any(pcapng.NO_OFFSET in sentence for sentence in account.sentences())


@pytest.mark.parametrize("options", [b"", option("<", 9, bytes([0x80 | 1])), option("<", 9, b"\0")])
def test_a_time_stamp_that_cannot_be_costs_its_packet_and_is_said(options: bytes) -> None:
    far = (1 << 64) - 1
    found, account = read(section() + interface(options=options) + packet("<", far, 1, b"") + packet("<", 5, 2, b""))
    assert found.ident.tolist() == [2]
    assert account.skipped == {"packet of a time that is not believable": 1}


def test_more_buses_than_a_recording_has_are_lost_and_said() -> None:
    parts = [interface(options=option("<", 2, f"bus {i}".encode())) for i in range(300)]
    found, account = read(section() + b"".join(parts) + b"".join(packet("<", i, 1, b"", i) for i in range(300)))
    assert len(found) == MOST_BUSES and account.missing == 300 - MOST_BUSES
    assert account.sentences() == ["45 frames are lost: frames of more than 255 buses (first at packet 256)"]


def test_sections_begin_anew_and_may_change_the_byte_order() -> None:
    named = option(">", 2, b"hotel")
    found, account = read(
        section()
        + interface()
        + packet("<", 1, 1, b"a")
        + section(">")
        + interface(">", named)
        + packet(">", 2, 2, b"b")
    )
    assert [account.bus_names[b] for b in found.bus] == ["bus0", "hotel"]
    assert found.ident.tolist() == [1, 2]


def test_other_link_types_and_unknown_interfaces_are_counted() -> None:
    found, account = read(
        section()
        + interface(link=1)
        + packet("<", 1, 1, b"")
        + packet("<", 1, 1, b"", 5)
        + interface()
        + packet("<", 2, 2, b"", 1)
    )
    assert found.ident.tolist() == [2]
    assert account.skipped == {pcapng.OTHER_LINK: 1, pcapng.NO_INTERFACE: 1}


def test_a_cut_last_block_loses_only_itself() -> None:
    whole = section() + interface() + packet("<", 1, 1, b"abc") + packet("<", 2, 2, b"def")
    found, account = read(whole[:-9])
    assert found.ident.tolist() == [1] and account.skipped == {pcapng.CUT: 1}


def test_an_unbelievable_length_ends_the_reading_and_says_so() -> None:
    found, account = read(section() + interface() + packet("<", 1, 1, b"") + struct.pack("<III", 6, 0xFFFFFFF1, 0))
    assert len(found) == 1 and account.skipped == {pcapng.BROKEN: 1}
    with pytest.raises(InputError, match="section header"):
        read(interface() + section())


def test_error_frames_name_their_class() -> None:
    found, _ = read(section() + interface() + packet("<", 1, 0x20000004, bytes([0, 4, 0, 0, 0, 0, 0, 0])))
    assert int(found.faults[0]) == Fault.CONTROLLER | Fault.WARNING and found.flags.tolist() == [Flag.ERROR]


@given(st.binary(max_size=300), st.booleans())
def test_no_bytes_crash_the_reader(noise: bytes, after: bool) -> None:
    good = section() + interface() + packet("<", 1, 1, b"ok")
    found, account = read(good + noise if after else section() + interface() + block("<", 6, noise) + good)
    assert len(found) == account.frames


@given(st.integers(0, 200), st.integers(0, 255))
def test_no_changed_byte_crashes_the_reader(at: int, value: int) -> None:
    good = bytearray(section() + interface("<", option("<", 9, b"\x09")) + packet("<", 1, 1, b"ok") * 3)
    good[at % len(good)] = value
    try:
        found, account = read(bytes(good))
        assert len(found) == account.frames
    except InputError as error:
        assert "section" in str(error)
