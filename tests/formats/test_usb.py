"""USB captures: packets built by hand from the public layouts, and what becomes of them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from keel.media.every import brief_of, medium_of
from keel.media.usb import USB
from keel.model.faults import fault_words
from keel.model.frames import Flag
from tests.captured import frames_of, imported, said
from tests.captures import START, Packet, pcap, pcapng, plugged_in, usb
from tests.making import find

SETUP = bytes.fromhex("8006000100001200")


@pytest.mark.parametrize("order", ["<", ">"])
@pytest.mark.parametrize("long", [True, False])
def test_a_control_transfer_is_read_and_paired(tmp_path: Path, order: str, long: bool) -> None:
    kind = {"order": order, "long": long}
    asked = usb("S", 2, 0x80, 0xABC, status=-115, length=18, setup=SETUP, **kind)  # type: ignore[arg-type]
    came = usb("C", 2, 0x80, 0xABC, b"\x12\x01" + bytes(16), at=START + 210_000, **kind)  # type: ignore[arg-type]
    packets = [Packet(START, asked), Packet(START + 210_000, came)]
    one, two = said(imported(tmp_path, pcap(220 if long else 189, packets, order)))
    assert one["id"] == two["id"] == "1.7.0 in" and one["medium"] == "usb" and one["dir"] == "rx"
    assert one["header"] == {
        "event": "submit", "transfer": "control", "bus": 1, "device": 7, "endpoint": 0,
        "status": ["in-progress", -115], "length": 18, "setup": "8006000100001200", "tag": "0000000000000ABC",
        "interval": 0, "flags": "00000000", "after": None,
    }  # fmt: skip
    assert two["header"]["after"] == 210_000 and two["header"]["setup"] is None  # type: ignore[index]
    assert two["header"]["status"] == ["ok", 0] and two["header"]["length"] == 18  # type: ignore[index]
    assert one["faults"] == two["faults"] == [] and one["len"] == 0 and two["len"] == 18


@pytest.mark.parametrize(
    "status, words",
    [(-32, ["stall"]), (-110, ["timeout"]), (-84, ["crc"]), (-19, ["no-response"]), (-75, ["length"]), (-5, ["other"]),
     (-2, []), (-104, []), (0, [])],
)  # fmt: skip
def test_what_a_status_means(tmp_path: Path, status: int, words: list[str]) -> None:
    packets = [Packet(START, usb("S", 3, 0x02, 1, b"x", status=-115)), Packet(START, usb("C", 3, 2, 1, status=status))]
    frames = frames_of(imported(tmp_path, pcap(220, packets)))
    assert [fault_words(int(f)) for f in frames.faults] == [[], words]


def test_requests_are_paired_across_pieces_whatever_happens_between(tmp_path: Path) -> None:
    packets = []
    for n in range(40):
        packets.append(Packet(START + n * 1000, usb("S", 3, 0x81, 100 + n % 3, status=-115, length=8)))
        if n % 4:
            packets.append(Packet(START + n * 1000 + 300, usb("C", 3, 0x81, 100 + n % 3, b"ab")))
    frames = frames_of(imported(tmp_path, pcapng([(220, "usb")], packets)))
    assert frames.header is not None
    done = frames.header[:, 8] == 1
    numbers, there = next(field for field in USB.fields if field.name == "after").numbers(frames.header)
    assert there.tolist() == done.tolist() and set(numbers[done].tolist()) == {300}


def test_isochronous_descriptors_are_no_payload(tmp_path: Path) -> None:
    packets = [Packet(START, usb("C", 0, 0x81, 1, b"audio", descriptors=3))]
    frames = frames_of(imported(tmp_path, pcap(220, packets)))
    assert frames.payload(0) == b"audio" and not int(frames.faults[0])


def test_only_what_carries_data_is_counted_for_cycles(tmp_path: Path) -> None:
    snapshot = imported(tmp_path, pcapng([(220, "usb1")], list(plugged_in())))
    frames = frames_of(snapshot)
    carries = frames.lengths > 0
    assert ((frames.flags & np.uint16(Flag.ASIDE)) == 0).tolist() == carries.tolist()
    assert len(find(snapshot, "data")) == int(carries.sum()) > 200
    assert len(find(snapshot, "not data")) == snapshot.frames - int(carries.sum())
    summary = find(snapshot, 'id:"1.7.1 in" event:complete').parts[0].summary
    assert int(summary.good[0]) == 250 and int(summary.least[0]) == int(summary.most[0]) == 20_000_000


def test_endpoints_are_asked_for_by_what_they_are_called(tmp_path: Path) -> None:
    snapshot = imported(tmp_path, pcapng([(220, "usb1")], list(plugged_in())))
    frames = frames_of(snapshot)
    assert frames.header is not None
    endpoint = frames.header[:, 10]
    for ask, expected in (
        ("id:1.7.2", (endpoint & 15) == 2),
        ('id:"1.7.0 out"', endpoint == 0),
        ("id:1.7", endpoint < 255),
        ("id:1.8", endpoint == 255),
        ("id:102", endpoint == 255),
        ("device:7 endpoint:1 event:complete", (endpoint == 0x81) & (frames.header[:, 8] == 1)),
        ("usb.bus:1 transfer:control", frames.header[:, 9] == 2),
        ("status:stall", frames.faults != 0),
        ("setup:8006000100001200", np.arange(len(frames)) == 0),
        ("after>1ms", (frames.header[:, 10] == 0x81) & (frames.header[:, 8] == 1)),
    ):
        found = find(snapshot, ask)
        assert found.numbers(0, len(found)).tolist() == np.flatnonzero(expected).tolist(), ask


def test_what_was_asked_and_what_came_back_in_words(tmp_path: Path) -> None:
    snapshot = imported(tmp_path, pcapng([(220, "usb1")], list(plugged_in())))
    frames, bus = frames_of(snapshot), snapshot.manifest.buses[0]
    rows = [frames.slice(i, i + 1) for i in range(8)]
    assert brief_of(rows[0], bus) == "submit GET_DESCRIPTOR"
    assert brief_of(rows[1], bus) == "complete control ok"
    bits = {field.name: (field.bits, field.meaning) for field in medium_of(bus).header(rows[0])}
    assert bits["wValue"] == ("0100h", "device 0") and bits["way"] == ("1", "to the host")
    assert USB.parts(rows[1])[1] == ("vendor", "1D6B, product 0003")
    assert USB.parts(rows[3]) == [("string", "Tern sounder")]
    assert brief_of(rows[7], bus) == "complete control stall"
    assert USB.size(rows[0]) == "asked for 18 bytes" and USB.size(rows[1]) == "moved 18 bytes"


@given(st.lists(st.binary(max_size=100), max_size=10), st.booleans(), st.booleans())
@settings(max_examples=40, deadline=None)
def test_any_bytes_become_frames_or_are_counted(
    tmp_path_factory: pytest.TempPathFactory, packets: list[bytes], long: bool, big: bool
) -> None:
    folder, order = tmp_path_factory.mktemp("any"), ">" if big else "<"
    good = usb("S", 2, 0x80, 1, setup=SETUP, order=order, long=long)
    content = pcap(220 if long else 189, [*(Packet(START, p) for p in packets), Packet(START, good)], order)
    snapshot = imported(folder, content)
    assert 1 <= snapshot.frames <= len(packets) + 1
    assert len(said(snapshot)) == snapshot.frames
