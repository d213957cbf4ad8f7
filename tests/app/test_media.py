"""Lines other than two of CAN, in every view."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from pathlib import Path

import pytest

from keel.app.views.every import DOORS
from keel.model.bus import Bus
from keel.model.frames import Flag
from keel.model.identity import NO_IDENT
from keel.store.manifest import edit_manifest
from keel.store.writer import Writer
from tests.app.driving import is_open, opened, shown, until
from tests.making import START, Row, batch, new_recording, recorded


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
