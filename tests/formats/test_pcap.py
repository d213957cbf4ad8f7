"""Classic pcap of link type 227, built byte by byte from the description."""

from __future__ import annotations

import struct
import tempfile
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.errors import InputError
from keel.formats import canrecord, pcap
from keel.formats.reader import Account
from keel.formats.registry import recognise
from keel.lines.can import with_wire_bits
from keel.model.faults import Fault
from keel.model.frames import LENGTH_TO_DLC, Flag, FrameBatch, batch_of, concat
from keel.model.identity import Form


def header(order: str = "<", nano: bool = False, link: int = 227) -> bytes:
    return struct.pack(order + "IHHiIII", 0xA1B23C4D if nano else 0xA1B2C3D4, 2, 4, 0, 0, 262144, link)


def record(
    order: str, seconds: int, fraction: int, word: int, payload: bytes, fd: int = 0, raw_dlc: int = 0, pad: int = 0
) -> bytes:
    body = struct.pack(">IBBBB", word, len(payload), fd, 0, raw_dlc) + payload + b"\0" * pad
    return struct.pack(order + "IIII", seconds, fraction, len(body), len(body)) + body


def read(data: bytes) -> tuple[FrameBatch, Account]:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "x.pcap"
        path.write_bytes(data)
        account = Account()
        return concat(list(pcap.read(path, account, lambda *_: None))), account


@pytest.mark.parametrize("order", ["<", ">"])
@pytest.mark.parametrize("nano", [False, True])
def test_both_byte_orders_and_both_resolutions(order: str, nano: bool) -> None:
    found, account = read(header(order, nano) + record(order, 1_700_000_000, 123_456, 0x1A0, b"\x01\x02"))
    assert found.time.tolist() == [1_700_000_000_000_000_000 + 123_456 * (1 if nano else 1000)]
    assert int(found.ident[0]) == 0x1A0 and found.payload(0) == b"\x01\x02"
    assert account.frames == 1 and account.skipped == {}
    assert int(found.bits[0]) > 47


@given(st.integers(0, 72), st.integers(0, 64), st.sampled_from([0, 0x04, 0x05]))
def test_a_frame_that_the_capture_cut_has_the_bytes_there_are(snap: int, size: int, fd: int) -> None:
    size = size if fd else min(size, 8)
    body = struct.pack(">IBBBB", 0x1A0, size, fd, 0, 0) + bytes(range(size))
    kept = body[:snap]
    data = header() + struct.pack("<IIII", 1, 0, len(kept), len(body)) + kept + record("<", 2, 0, 0x2A0, b"ab")
    found, account = read(data)
    if len(kept) < 4:
        assert found.ident.tolist() == [0x2A0] and account.skipped == {"record shorter than an identifier": 1}
        return
    assert found.ident.tolist() == [0x1A0, 0x2A0] and not account.skipped
    assert found.payload(0) == kept[8:]
    assert bool(found.faults[0] & Fault.TRUNCATED) == (len(kept) < len(body)) and not found.faults[1]
    if len(kept) >= 8:
        # All of it was on the wire, whatever is known of it: with zeros in place of what is not.
        assert found.dlc[0] == LENGTH_TO_DLC[size] and bool(found.flags[0] & Flag.FD) == bool(fd)
        whole = batch_of(1, 0x1A0, [kept[8:].ljust(size, b"\0")], flags=int(found.flags[0]), dlc=int(found.dlc[0]))
        assert found.bits[0] == with_wire_bits(whole).bits[0]


def test_kinds_of_frame() -> None:
    data = header()
    data += record("<", 1, 0, 0x98FECA17, b"12345678", raw_dlc=12)
    data += record("<", 2, 0, 0x400001A0, b"")
    data += record("<", 3, 0, 0x1A0, b"x" * 12, fd=0x05)
    data += record("<", 4, 0, 0x1A0, b"ab", fd=0x06, pad=62)
    data += record("<", 5, 0, 0x1A0, b"y" * 64)
    found, account = read(data)
    assert account.skipped == {}
    assert found.form.tolist() == [Form.EXTENDED] + [Form.BASE] * 4
    assert found.flags.tolist() == [
        0,
        Flag.REMOTE,
        Flag.FD | Flag.BRS,
        Flag.FD | Flag.ESI,
        Flag.FD,
    ]
    assert found.dlc.tolist() == [12, 0, 9, 2, 15]
    assert [len(found.payload(i)) for i in range(5)] == [8, 0, 12, 2, 64]


@pytest.mark.parametrize(
    "word, details, faults",
    [
        (0x20, "0000000000000000", Fault.ACK),
        (0x40, "0000000000000000", Fault.BUS_OFF),
        (0x08, "0000040000000000", Fault.STUFF),
        (0x08, "0000020000000000", Fault.FORM),
        (0x08, "0000010000000000", Fault.BIT),
        (0x08, "0000000800000000", Fault.CRC),
        (0x08, "0000200000000000", Fault.OVERLOAD),
        (0x04, "0004000000000000", Fault.CONTROLLER | Fault.WARNING),
        (0x04, "0010000000000000", Fault.CONTROLLER | Fault.PASSIVE),
        (0x04, "0001000000000000", Fault.CONTROLLER | Fault.LOST),
        (0x02, "0000000000000000", Fault.ARBITRATION),
        (0x100, "0000000000000000", Fault.RESTARTED),
        (0x80, "0000000000000000", Fault.OTHER),
    ],
)
def test_error_frames_name_their_class(word: int, details: str, faults: Fault) -> None:
    found, _ = read(header() + record("<", 1, 0, 0x20000000 | word, bytes.fromhex(details)))
    assert int(found.faults[0]) == faults
    assert int(found.flags[0]) == Flag.ERROR and int(found.form[0]) == Form.NONE
    assert found.payload(0) == bytes.fromhex(details)


def test_bad_records_are_counted_and_passed_over() -> None:
    good = record("<", 1, 0, 0x1A0, b"ok")
    short = struct.pack("<IIII", 1, 0, 4, 4) + b"abcd"
    lying = struct.pack("<IIII", 1, 0, 9, 9) + struct.pack(">IBBBB", 0x1A0, 8, 0, 0, 0) + b"x"
    long = struct.pack("<IIII", 1, 0, 8 + 70, 8 + 70) + struct.pack(">IBBBB", 0x1A0, 70, 0, 0, 0) + b"x" * 70
    found, account = read(header() + good + short + lying + long + good + good[:-1])
    assert len(found) == 2
    assert account.skipped == dict.fromkeys((*canrecord.REASONS[1:], pcap.CUT), 1)
    assert account.examples[pcap.CUT] == "record 6"


def test_an_unbelievable_length_ends_the_reading_and_says_so() -> None:
    good = record("<", 1, 0, 0x1A0, b"ok")
    found, account = read(header() + good + struct.pack("<IIII", 1, 0, 0xFFFFFFF0, 0) + b"x" * 100)
    assert len(found) == 1 and account.skipped == {pcap.UNBELIEVABLE: 1}


def test_other_link_types_and_cut_headers_are_refused() -> None:
    with pytest.raises(InputError, match="link type 1; expected one of the link types 189, 220, 227, 251, 256"):
        read(header(link=1))
    with pytest.raises(InputError, match="ends after 10 bytes"):
        read(header()[:10])


def test_blocks_end_between_records(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("keel.formats.reader.BLOCK_BYTES", 200)
    data = header() + b"".join(record("<", i, 0, 0x1A0, bytes([i]) * (i % 9)) for i in range(100))
    found, account = read(data)
    assert found.time.tolist() == [i * 10**9 for i in range(100)] and account.skipped == {}


def test_it_is_told_by_its_first_bytes(tmp_path: Path) -> None:
    path = tmp_path / "no-ending"
    path.write_bytes(header(">", nano=True))
    known, why = recognise(path)
    assert known is pcap.FORMAT and "big-endian, nanoseconds" in why


@given(st.binary(max_size=400), st.sampled_from(["<", ">"]))
def test_no_bytes_crash_the_reader(noise: bytes, order: str) -> None:
    found, account = read(header(order) + record(order, 1, 0, 0x1A0, b"ok") + noise)
    assert len(found) == account.frames >= 1
