"""Captures of every link type and of several in one file: read, written, read again, all the same."""

from __future__ import annotations

import struct
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from keel.formats.exporting import Setting, open_writer
from keel.formats.importing import import_files
from keel.store.recording import Recording, Snapshot
from tests import captures
from tests.captured import imported, said
from tests.captures import LOCK, START, TAG, Packet, address, link_layer, pcap, pcapng, pdu, usb, with_radio


def written(snapshot: Snapshot, path: Path, form: str) -> list[str]:
    writer = open_writer(path, form, Setting(snapshot.manifest.buses, snapshot.span.start, {}, [], {}))
    frames = snapshot.rows(0, snapshot.frames)
    for low in range(0, len(frames), 7):
        writer.write(frames.slice(low, min(low + 7, len(frames))), np.arange(low, min(low + 7, len(frames))))
    writer.close()
    return writer.losses.sentences()


def again(snapshot: Snapshot, folder: Path, form: str) -> Snapshot:
    path = folder / f"again.{form}"
    assert written(snapshot, path, form) == []
    import_files([path], folder / f"again-{form}.keel")
    return Recording(folder / f"again-{form}.keel").snapshot()


def same(a: Snapshot, b: Snapshot) -> None:
    assert said(a) == said(b)
    one, other = (s.rows(0, s.frames) for s in (a, b))
    assert (one.header is None) == (other.header is None)
    assert np.array_equal(one.flags, other.flags)
    if one.header is not None and other.header is not None:
        assert np.array_equal(one.header, other.header)
    assert [(bus.name, bus.medium) for bus in a.manifest.buses] == [(bus.name, bus.medium) for bus in b.manifest.buses]


def can(ident: int, payload: bytes, flags: int = 0) -> bytes:
    return struct.pack(">IBBBB", ident, len(payload), flags, 0, 0) + payload


ADDRESSES = st.sampled_from([LOCK, TAG])
BLE_BODIES = st.one_of(
    st.builds(lambda a, d: pdu(0, address(a) + d, tx_random=True), ADDRESSES, st.binary(max_size=31)),
    st.builds(lambda k, d: pdu(k, d), st.integers(0, 15), st.binary(max_size=40)),
)
ACCESSES = st.sampled_from([captures.ADVERTISING, 0x50655DAB])
PLAIN = st.builds(lambda body, access, spoil: link_layer(body, access, spoil=spoil), BLE_BODIES, ACCESSES,
                  st.sampled_from([0, 0, 1]))  # fmt: skip
RADIO = st.builds(lambda p, c, r, f: with_radio(p, c, r, f), PLAIN, st.integers(0, 39), st.integers(-120, 20),
                  st.integers(0, 0xFFFF))  # fmt: skip


def usb_packets(order: str, long: bool) -> st.SearchStrategy[bytes]:
    return st.builds(
        lambda event, transfer, endpoint, tag, data, status, length, setup: usb(
            event, transfer, endpoint, tag, data, status=status, length=length, setup=setup if transfer == 2 else None,
            order=order, long=long,
        ),
        st.sampled_from("SCE"), st.integers(0, 3), st.sampled_from([0, 1, 0x81, 0x82]), st.integers(1, 3),
        st.binary(max_size=90), st.sampled_from([0, -115, -32, -71, -2]), st.integers(0, 100),
        st.one_of(st.none(), st.binary(min_size=8, max_size=8)),
    )  # fmt: skip


CAN = st.one_of(
    st.builds(can, st.integers(0, 0x7FF), st.binary(max_size=8)),
    st.builds(lambda i, p: can(i | 0x8000_0000, p), st.integers(0, 0x1FFF_FFFF), st.binary(max_size=8)),
)


@st.composite
def a_capture(draw: st.DrawFn) -> tuple[int, str, list[Packet]]:
    link, order = draw(st.sampled_from([189, 220, 227, 251, 256])), draw(st.sampled_from("<>"))
    of = usb_packets(order, link == 220) if link < 227 else {227: CAN, 251: PLAIN, 256: RADIO}[link]
    packets = draw(st.lists(st.tuples(st.integers(0, 30), of, st.sampled_from([None, None, None, 4])), min_size=1,
                            max_size=12))  # fmt: skip
    found, at = [], START
    for wait, data, less in packets:
        at += wait * 700_000
        found.append(Packet(at, data, 0, len(data) - less if less and len(data) > 90 else None))
    return link, order, found


@given(a_capture(), st.booleans())
@settings(max_examples=60, deadline=None)
def test_what_is_read_is_written_and_read_the_same(
    tmp_path_factory: pytest.TempPathFactory, made: tuple[int, str, list[Packet]], is_ng: bool
) -> None:
    link, order, packets = made
    folder = tmp_path_factory.mktemp("links")
    first = imported(folder, pcapng([(link, "one")], packets, order) if is_ng else pcap(link, packets, order))
    assert first.frames == len(packets)
    for form in ("pcapng", "parquet"):
        same(first, again(first, folder, form))


def mixed() -> bytes:
    ble = list(captures.air(2))
    plugged = [Packet(p.time, p.data, 1) for p in captures.plugged_in(1)]
    cans = [Packet(START + i * 10_000_000, can(0x1A0 + i % 3, bytes([i])), 2) for i in range(100)]
    odd = [Packet(START + 5, b"????", 3)]
    packets = sorted([*ble, *plugged, *cans, *odd], key=lambda p: p.time)
    return pcapng([(256, "air"), (220, "usb1"), (227, "can0"), (147, "private")], packets)


def test_several_kinds_of_line_in_one_file_are_several_buses(tmp_path: Path) -> None:
    snapshot = imported(tmp_path, mixed())
    assert [(bus.name, bus.medium) for bus in snapshot.manifest.buses] == [
        ("air", "ble"), ("usb1", "usb"), ("can0", "can"),
    ]  # fmt: skip
    frames = snapshot.rows(0, snapshot.frames)
    assert (np.diff(frames.time) >= 0).all() and len(np.unique(frames.bus)) == 3
    assert any("link type" in note and "147" in note for note in snapshot.manifest.notes)
    assert any("skipped 1: packet of a link type that is not known" in note for note in snapshot.manifest.notes)
    rows = said(snapshot)
    assert {row["medium"]: row["header"] is None for row in rows} == {"ble": False, "usb": False, "can": True}
    # CAN frames among others have no header bytes that say anything, and keep what is theirs.
    assert all(row["t_end"] is None and row["ext"] is False for row in rows if row["medium"] == "can")
    for form in ("pcapng", "parquet"):
        same(snapshot, again(snapshot, tmp_path, form))


def test_interfaces_of_one_name_and_several_kinds_are_several_buses(tmp_path: Path) -> None:
    packets = [Packet(START, link_layer(pdu(0, address(TAG))), 0), Packet(START, can(1, b"x"), 1)]
    snapshot = imported(tmp_path, pcapng([(251, "if0"), (227, "if0")], packets))
    assert [(bus.name, bus.medium) for bus in snapshot.manifest.buses] == [("if0", "ble"), ("if0 can", "can")]


def test_files_of_several_kinds_are_one_recording(tmp_path: Path) -> None:
    (tmp_path / "a.pcap").write_bytes(pcap(251, [Packet(START, link_layer(pdu(0, address(TAG))))]))
    (tmp_path / "b.pcap").write_bytes(pcap(227, [Packet(START + 1, can(0x1A0, b"x"))]))
    import_files([tmp_path / "a.pcap", tmp_path / "b.pcap"], tmp_path / "both.keel")
    snapshot = Recording(tmp_path / "both.keel").snapshot()
    assert [(bus.name, bus.medium) for bus in snapshot.manifest.buses] == [("bus0", "ble"), ("bus0 can", "can")]
    assert [row["id"] for row in said(snapshot)] == [TAG, "1A0"]


def test_a_bus_may_have_had_two_link_types(tmp_path: Path) -> None:
    body = link_layer(pdu(0, address(TAG)))
    packets = [Packet(START, body, 0), Packet(START + 1, with_radio(body, 37, -60), 1)]
    snapshot = imported(tmp_path, pcapng([(251, "air"), (256, "air")], packets))
    assert [(bus.name, bus.medium) for bus in snapshot.manifest.buses] == [("air", "ble")]
    same(snapshot, again(snapshot, tmp_path, "pcapng"))
