"""BLE captures: packets built by hand from the public layouts, and what becomes of them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from keel.ask.fetch import frames_at
from keel.formats.ble_packets import crc24
from keel.media import ble
from keel.media.every import format_ident
from keel.model.faults import Fault, fault_words
from keel.model.frames import Flag
from tests import captures
from tests.captured import frames_of, imported, said
from tests.captures import ADVERTISING, LOCK, START, TAG, Packet, ad, address, link_layer, pcap, pcapng, pdu, with_radio
from tests.making import find


def plain(*bodies: bytes, every: int = 100_000_000) -> bytes:
    return pcap(251, [Packet(START + i * every, link_layer(body)) for i, body in enumerate(bodies)])


def test_the_crc_has_its_published_check_value() -> None:
    # CRC-24/BLE: check 0xC25A56 over "123456789", as it is said most significant bit first.
    assert crc24(b"123456789") == 0xC25A56
    body = pdu(0, address(LOCK) + ad(1, b"\x06"))
    assert crc24(body).to_bytes(3, "little") == captures.crc24(body)


def test_who_sends_what_and_how_strong_it_came(tmp_path: Path) -> None:
    body = pdu(0, address(LOCK) + ad(9, b"gangway lock"), tx_random=True, ch_sel=True)
    there, elsewhere = with_radio(link_layer(body), 37, -58), with_radio(link_layer(body), 3, -99)
    packets = [Packet(START, there), Packet(START + 9, elsewhere)]
    one, two = said(imported(tmp_path, pcap(256, packets)))
    assert one["id"] == LOCK and one["medium"] == "ble" and one["dir"] == "rx" and one["t_end"] is None
    assert one["payload"] == body[2:].hex().upper() and one["len"] == len(body) - 2
    assert one["header"] == {
        "type": "ADV_IND", "ch_sel": 1, "tx_add": 1, "rx_add": 0, "length": len(body) - 2,
        "access_address": "8E89BED6", "crc": f"{crc24(body):06X}", "crc_ok": True, "channel": 37, "rssi": -58,
        "phy": "1M", "encrypted": False,
    }  # fmt: skip
    assert one["dlc"] is None and one["ext"] is None and one["fd"] is None
    # On a channel that is none of the three for advertising it is the auxiliary packet of another.
    assert two["header"]["channel"] == 3 and two["header"]["rssi"] == -99  # type: ignore[index]


@pytest.mark.parametrize("stored, index", [(0, 37), (12, 38), (39, 39), (1, 0), (11, 10), (13, 11), (38, 36)])
def test_radio_channels_are_shown_by_their_index(tmp_path: Path, stored: int, index: int) -> None:
    packet = bytearray(with_radio(link_layer(pdu(0, address(TAG))), 37, -50))
    packet[0] = stored
    (row,) = said(imported(tmp_path, pcap(256, [Packet(START, bytes(packet))])))
    assert row["header"]["channel"] == index  # type: ignore[index]


def test_without_radio_data_channel_and_strength_are_null(tmp_path: Path) -> None:
    (row,) = said(imported(tmp_path, plain(pdu(0, address(TAG)))))
    header = row["header"]
    assert isinstance(header, dict)
    assert header["channel"] is None and header["rssi"] is None and header["phy"] is None and header["crc_ok"] is True


def test_the_sender_s_address_is_the_identifier_where_there_is_one(tmp_path: Path) -> None:
    extended = bytes([7 | 0 << 6, 0x01]) + address(LOCK) + b"\x00"
    snapshot = imported(
        tmp_path,
        plain(
            pdu(0, address(LOCK), tx_random=True),
            pdu(3, address(TAG) + address(LOCK)),
            pdu(4, address(LOCK), tx_random=True),
            pdu(5, address(TAG) + address(LOCK) + bytes(22)),
            pdu(7, extended, tx_random=True),
            pdu(7, bytes([0])),
            pdu(0, b"\x01\x02"),
        ),
    )
    frames = frames_of(snapshot)
    names = [format_ident(int(f), int(i)) for f, i in zip(frames.form, frames.ident, strict=True)]
    assert names == [LOCK, TAG, LOCK, TAG, LOCK, "8E89BED6", "8E89BED6"]
    assert [int(form) for form in frames.form] == [
        form.number
        for form in (ble.RANDOM, ble.PUBLIC_REQUEST, ble.RANDOM_RESPONSE, ble.PUBLIC_REQUEST, ble.RANDOM, ble.ACCESS,
                     ble.ACCESS)
    ]  # fmt: skip


def test_three_pdus_of_one_event_are_one_interval(tmp_path: Path) -> None:
    body = pdu(0, address(LOCK), tx_random=True)
    packets = [
        Packet(START + event * 100_000_000 + place * 400_000, with_radio(link_layer(body), channel, -50))
        for event in range(5)
        for place, channel in enumerate((37, 38, 39))
        if (event, place) not in ((2, 0), (3, 1))
    ]
    frames = frames_of(snapshot := imported(tmp_path, pcap(256, packets)))
    aside = (frames.flags & np.uint16(Flag.ASIDE)) != 0
    assert np.count_nonzero(~aside) == 5 and len(frames) == 13
    summary = find(snapshot).parts[0].summary
    # The third event began with its second PDU.
    assert (int(summary.least[0]), int(summary.most[0])) == (99_600_000, 100_400_000)
    assert int(summary.frames[0]) == 13 and int(summary.good[0]) == 5


def test_an_event_goes_on_across_pieces_and_a_fault_does_not_hide_it(tmp_path: Path) -> None:
    body = pdu(0, address(LOCK), tx_random=True)
    packets = [
        Packet(START, with_radio(link_layer(body, spoil=1), 37, -50)),
        Packet(START + 400_000, with_radio(link_layer(body), 38, -50)),
        Packet(START + 800_000, with_radio(link_layer(body), 39, -50)),
    ]
    frames = frames_of(imported(tmp_path, pcapng([(256, "air")], packets)))
    assert fault_words(int(frames.faults[0])) == ["crc"]
    assert ((frames.flags & np.uint16(Flag.ASIDE)) != 0).tolist() == [False, False, True]


def test_crc_faults_are_found_and_asked_for(tmp_path: Path) -> None:
    snapshot = imported(tmp_path, pcapng([(256, "air")], list(captures.air(60))), "air.pcapng")
    spoilt = len(find(snapshot, "fault:crc"))
    assert spoilt == len(find(snapshot, "crc_ok:no")) > 3
    assert len(find(snapshot, "crc_ok:yes")) == snapshot.frames - spoilt
    assert len(find(snapshot, f"id:{LOCK.lower()}")) == len(find(snapshot, "id:C61234??????")) > 1000
    assert len(find(snapshot, "id:C61234")) == 0


def test_a_connection_is_followed_from_its_request(tmp_path: Path) -> None:
    access, init = 0x50655DAB, 0x123456
    link = access.to_bytes(4, "little") + init.to_bytes(3, "little") + bytes(15)
    request = pdu(5, address(TAG) + address(LOCK) + link, tx_random=False)
    data = bytes([2, 3]) + b"abc"
    begin = bytes([3, 1]) + b"\x05"
    packets = [
        Packet(START, link_layer(request)),
        Packet(START + 1_000_000, link_layer(data, access, init)),
        Packet(START + 2_000_000, link_layer(data, access, init, spoil=1)),
        Packet(START + 3_000_000, link_layer(begin, access, init)),
        Packet(START + 4_000_000, link_layer(data, access, init)),
        Packet(START + 5_000_000, link_layer(data, 0x71764129, init)),
    ]
    rows = said(imported(tmp_path, pcap(251, packets)))
    headers = [row["header"] for row in rows]
    assert [h["crc_ok"] for h in headers] == [True, True, False, True, True, None]  # type: ignore[index]
    assert [h["type"] for h in headers[1:4]] == ["LL_DATA_START", "LL_DATA_START", "LL_CONTROL"]  # type: ignore[index]
    assert [h["encrypted"] for h in headers] == [False, False, False, False, True, False]  # type: ignore[index]
    assert rows[1]["id"] == "50655DAB" and rows[1]["header"]["tx_add"] is None  # type: ignore[index]
    assert rows[2]["faults"] == ["crc"] and rows[5]["faults"] == []


def test_what_does_not_fit_is_said(tmp_path: Path) -> None:
    body = pdu(0, address(LOCK))
    cut = Packet(START, link_layer(body), kept=8)
    too_long = Packet(START, link_layer(bytes([0, 3]) + address(LOCK)))
    kept = Packet(START, link_layer(body), kept=len(link_layer(body)) - 4)
    snapshot = imported(tmp_path, pcap(251, [cut, too_long, kept, Packet(START, link_layer(body))]))
    frames = frames_of(snapshot)
    assert [fault_words(int(f)) for f in frames.faults] == [["length"], ["truncated"], []]
    assert frames.payload(1) == address(LOCK)[:-1]
    assert any("shorter than a BLE packet" in note for note in snapshot.manifest.notes)


def test_names_and_other_pieces_are_read(tmp_path: Path) -> None:
    body = pdu(0, address(LOCK) + ad(1, b"\x06") + ad(9, "Tür".encode()) + ad(0xFF, b"\x34\x12\x01") + b"\x30\x09x")
    frame = frames_of(imported(tmp_path, plain(body)))
    assert ble.BLE.parts(frame) == [("flags", "discoverable, no BR/EDR"), ("name", "Tür"), ("maker data", "1234 01")]
    assert ble.BLE.called(int(frame.form[0]), frame.payload(0)) == "Tür"
    assert ble.private_kind(0x40 << 40).startswith("resolvable") and ble.private_kind(0xC0 << 40) == "static"
    assert "non-resolvable" in ble.private_kind(0) and "reserved" in ble.private_kind(0x80 << 40)


@given(st.lists(st.binary(max_size=60), max_size=12), st.booleans())
@settings(max_examples=40, deadline=None)
def test_any_bytes_become_frames_or_are_counted(
    tmp_path_factory: pytest.TempPathFactory, packets: list[bytes], radio: bool
) -> None:
    folder = tmp_path_factory.mktemp("any")
    good = with_radio(link_layer(pdu(0, address(LOCK))), 37, -50) if radio else link_layer(pdu(0, address(LOCK)))
    content = pcap(256 if radio else 251, [*(Packet(START, p) for p in packets), Packet(START, good)])
    snapshot = imported(folder, content)
    short = sum(len(p) < (19 if radio else 9) for p in packets)
    assert snapshot.frames == len(packets) + 1 - short
    assert len(said(snapshot)) == snapshot.frames


def test_asks_for_headers_pass_by_what_cannot_match(tmp_path: Path) -> None:
    snapshot = imported(tmp_path, pcapng([(256, "air")], list(captures.air(20))), "air.pcapng")
    frames = frames_of(snapshot)
    assert frames.header is not None
    rssi = frames.header[:, 11].view(np.int8)
    for ask, expected in (
        ("rssi<-70", rssi < -70),
        ("rssi>=-60", rssi >= -60),
        ("not rssi>=-60", rssi < -60),
        ("channel:37,39", np.isin(frames.header[:, 22], (37, 39))),
        ("channel!=37", frames.header[:, 22] != 37),
        ("ble.rssi=-60", rssi == -60),
        ("type:scan_req", frames.header[:, 20] == 3),
        ("access_address:8e89bed6", np.ones(len(frames), np.bool_)),
        ("phy:2M", np.zeros(len(frames), np.bool_)),
        (f"id:{TAG} rssi<-80", (frames.ident == np.uint64(int(TAG.replace(":", ""), 16))) & (rssi < -80)),
    ):
        found = find(snapshot, ask)
        assert found.numbers(0, len(found)).tolist() == np.flatnonzero(expected).tolist(), ask
    assert frames_at(find(snapshot, "fault:truncated"), 0, 9).faults.tolist() == []
    assert int(Fault.CRC) == 1 and ADVERTISING == 0x8E89BED6
