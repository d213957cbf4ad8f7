"""Lines other than two of CAN, in every view."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from pathlib import Path

import pytest

from keel.app.views.every import DOORS
from keel.formats.importing import import_files
from keel.media.every import MEDIA
from keel.media.medium import Medium
from keel.model.bus import Bus
from keel.model.frames import Flag
from keel.model.identity import NO_IDENT
from keel.store.manifest import edit_manifest
from keel.store.writer import Writer
from tests.app.driving import is_open, look, opened, shown, until
from tests.captures import LOCK, air, pcap, pcapng, plugged_in
from tests.making import START, Row, batch, new_recording, recorded
from tests.media.test_matrix import recording


def many_buses(folder: Path, count: int) -> Path:
    found = [Row(START + i * 1_000_000, 0x100 + i % 3, bytes([i % 256]), bus=i % count) for i in range(70 * count)]
    new_recording(folder)
    with edit_manifest(folder) as manifest:
        manifest.buses = [Bus(f"can{i}") for i in range(count)]
    writer = Writer(folder)
    writer.append(batch(found))
    writer.close()
    return folder


ROWS = [(1, 40, 2, "can0"), (3, 40, 3, "can2"), (5, 40, 5, "can4"), (9, 40, 5, "5 more"), (5, 30, 3, "3 more")]


@pytest.mark.parametrize("count, height, rows, last", [(1, 40, 2, "can0"), (3, 40, 3, "can2"), (5, 40, 5, "can4"), (9, 40, 5, "5 more"), (5, 30, 3, "3 more")])  # fmt: skip  # noqa: E501
async def test_each_bus_has_a_row_on_the_tape(tmp_path: Path, count: int, height: int, rows: int, last: str) -> None:
    async with opened(many_buses(tmp_path / "r.keel", count), (120, height)) as (app, pilot):
        await until(pilot, lambda: app.tape.size.height == rows + 2)
        lines = [line.text() for line in app.tape.paint(120, rows + 2)]
        assert any(line.strip().startswith(last) for line in lines[:rows])
        assert "can0" in lines[0] and "0s" in lines[-1]
        await pilot.press("plus")
        await until(pilot, lambda: app.tape.size.height == rows + 3)
        assert "can0" in app.tape.paint(120, rows + 3)[1].text()


async def test_frames_of_any_form_are_shown_in_every_view(tmp_path: Path) -> None:
    found = [Row(START + i * 10_000_000, i % 2, bytes([i, 7]), form=form) for i in range(40) for form in (0, 2, 200)]
    found.append(Row(START + 500_000_000, 0, b"", form=NO_IDENT, flags=int(Flag.ERROR)))
    recorded(tmp_path / "r.keel", batch(found))
    with edit_manifest(tmp_path / "r.keel") as manifest:
        manifest.buses[1] = Bus("b", medium="beam")
    async with opened(tmp_path / "r.keel", (160, 40)) as (app, pilot):
        for door in DOORS:
            app.press(door.key)
            await until(pilot, partial(is_open, app, door.name))
            await until(pilot, lambda: shown(app).strip())
        app.press("2")
        for number in (0, 1, 2, 120):
            app.change("row", replace(app.state, frame=number))
            await until(pilot, lambda: "anatomy" in shown(app))


@pytest.mark.parametrize("medium", MEDIA, ids=[medium.name for medium in MEDIA])
async def test_every_kind_of_line_is_shown_in_every_view(tmp_path: Path, medium: Medium) -> None:
    recording(tmp_path / "r.keel", medium)
    async with opened(tmp_path / "r.keel", (160, 40)) as (app, pilot):
        for door in DOORS:
            app.press(door.key)
            await until(pilot, partial(is_open, app, door.name))
            await until(pilot, lambda: shown(app).strip())
        app.press("3")
        told = "load of each bus" if medium.has_load else "not for this kind of line"
        await until(pilot, lambda: told in shown(app))
        app.press("2")
        for number in range(0, 40, 5):
            app.change("row", replace(app.state, frame=number))
            await until(pilot, lambda number=number: f"anatomy frame {number + 1}" in shown(app))  # type: ignore[misc]
        app.press("5")
        numbers = [field.name for field in medium.fields if field.shown in ("number", "yes") and not field.in_bits]
        await until(pilot, lambda: all(name in shown(app) for name in numbers[:1]) or not numbers)


async def test_a_payload_of_any_length_is_passed_through(tmp_path: Path) -> None:
    payload = bytes(range(256)) * 40
    recorded(tmp_path / "r.keel", batch([Row(START, 0x7F, payload, form=2), Row(START + 1000, 0x7F, b"short", form=2)]))
    async with opened(tmp_path / "r.keel", (160, 40)) as (app, pilot):
        app.press("2")
        await until(pilot, lambda: "anatomy frame 1" in shown(app))
        app.change("row", replace(app.state, frame=0))
        await until(pilot, lambda: "of 10240, ← →" in shown(app) and "10240" in shown(app))
        assert "0000  00 01 02 03 04 05 06 07" in shown(app)
        app.press("right")
        await until(pilot, lambda: "0080  80 81 82 83" in shown(app))
        for _ in range(100):
            app.press("right")
        await until(pilot, lambda: "bytes 10232–10239 of 10240" in shown(app))
        assert "27F8  F8 F9 FA FB FC FD FE FF" in shown(app)
        app.press("1")
        await until(pilot, lambda: "changes" in shown(app))


async def test_a_newcomer_walks_through_a_ble_capture(tmp_path: Path) -> None:
    (tmp_path / "air.pcapng").write_bytes(pcapng([(256, "air")], list(air(20))))
    import_files([tmp_path / "air.pcapng"], tmp_path / "air.keel")
    async with opened(tmp_path / "air.keel", (160, 40)) as (app, pilot):
        # Who advertises here, how often, how strong?
        await until(pilot, lambda: "gangway lock" in shown(app))
        lines = shown(app).splitlines()
        lock = next(line for line in lines if "gangway lock" in line)
        assert LOCK in lock and " 100." in lock and "dBm" in lock and "ADV_IND" in lock
        assert any("response" in line and LOCK in line for line in lines)
        # What exactly does this one say?
        app.press("2")
        await until(pilot, lambda: "maker data" in shown(app))
        assert "name         gangway lock" in shown(app) and "rssi" in shown(app)
        # Which had CRC faults?
        look(app, ask="fault:crc")
        await until(pilot, lambda: "the CRC that was sent does not fit" in shown(app))


async def test_a_newcomer_walks_through_a_usb_capture(tmp_path: Path) -> None:
    (tmp_path / "plug.pcap").write_bytes(pcap(220, list(plugged_in(2))))
    import_files([tmp_path / "plug.pcap"], tmp_path / "plug.keel")
    async with opened(tmp_path / "plug.keel", (160, 40)) as (app, pilot):
        await until(pilot, lambda: "1.7.1 in" in shown(app) and "completed" in shown(app))
        app.press("2")
        app.change("row", replace(app.state, frame=0))
        # What was asked?
        await until(pilot, lambda: "bRequest GET_DESCRIPTOR" in shown(app) and "asked for 18" in shown(app))
        app.press("down")
        # Which device, and what came back?
        await until(pilot, lambda: "1D6B, product 0003" in shown(app) and "after 210.0 µs" in shown(app))
        look(app, ask="status:stall")
        await until(pilot, lambda: "the endpoint stalled" in shown(app))
