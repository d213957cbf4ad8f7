"""Health by keys and mouse: faults, gaps and checks lead to their frames; a nominal cycle is named and forgotten."""

from __future__ import annotations

from functools import partial
from pathlib import Path

import pytest
from textual.pilot import Pilot

from keel.app.frame.stage import Stage
from keel.app.main import KeelApp
from keel.app.views.health.choices import HealthChoices
from keel.app.views.health.view import HealthView, _check_place
from keel.app.views.health.wants import Health
from keel.model.faults import Fault
from keel.model.frames import Flag
from keel.model.identity import Form, pack_key
from keel.store.manifest import load_manifest
from tests.app.driving import frame_in_hand, has_said, is_open, look, opened, part_of, picture_of, said, shown, until
from tests.making import START, Row, batch, recorded

MS = 1_000_000
STEADY, GAPPY = pack_key(0, Form.BASE, 0x100), pack_key(0, Form.BASE, 0x200)


@pytest.fixture
def line(tmp_path: Path) -> Path:
    """Two identifiers over ten seconds; one is silent from 4 s to 6 s; three CRC and one stuffing fault."""
    rows = [Row(START + i * 10 * MS, 0x100, bytes([i & 0xFF])) for i in range(1000)]
    rows += [Row(START + i * 20 * MS + 1, 0x200, b"\x01") for i in range(500) if not 200 < i < 300]
    error = int(Flag.ERROR)
    rows += [Row(START + s * 1000 * MS + 7, 0x100, b"", flags=error, faults=int(Fault.CRC)) for s in (2, 5, 8)]
    rows += [Row(START + 7000 * MS + 9, 0x200, b"", flags=error, faults=int(Fault.STUFF))]
    recorded(tmp_path / "line.keel", batch(sorted(rows, key=lambda row: row.time)))
    return tmp_path / "line.keel"


async def healthy(app: KeelApp, pilot: Pilot[None]) -> HealthView:
    await pilot.press("3")
    await until(pilot, partial(is_open, app, "health"))
    view = app.views["health"]
    assert isinstance(view, HealthView)
    return view


def check_in_hand(app: KeelApp) -> str:
    """The check whose row stands out."""
    choices, health = app.state.of(HealthChoices), part_of(app, Health)
    return health.checks[_check_place(health, choices)].text if choices.panel == "checks" else ""


def time_in_hand(app: KeelApp) -> int:
    """When the frame in hand was, in ms from the start."""
    number = frame_in_hand(app)
    assert number is not None
    return (int(picture_of(app).snapshot.rows(number, number + 1).time[0]) - START) // MS


async def at_frame(app: KeelApp, pilot: Pilot[None], ms: int) -> None:
    await until(pilot, lambda: is_open(app, "frames") and frame_in_hand(app) is not None and time_in_hand(app) == ms)


async def test_faults_are_counted_and_lead_to_their_first_and_last(line: Path) -> None:
    async with opened(line) as (app, pilot):
        await healthy(app, pilot)
        rows = {name: row for row in shown(app).splitlines() for name in ("CRC", "stuff error") if f"✕ {name}" in row}
        assert " 3 " in rows["CRC"] and "2.000" in rows["CRC"] and "8.000" in rows["CRC"]
        assert " 1 " in rows["stuff error"] and "7.000" in rows["stuff error"]
        await pilot.press("tab", "f")
        await at_frame(app, pilot, 2000)
        assert app.state.ask == "fault:crc" and "3 frames" in said(app)
        await pilot.press("backspace")
        await until(pilot, partial(is_open, app, "health"))
        await pilot.press("l")
        await at_frame(app, pilot, 8000)
        await pilot.press("backspace")
        await until(pilot, partial(is_open, app, "health"))
        await pilot.press("down", "enter")
        await at_frame(app, pilot, 7000)
        assert app.state.ask == "fault:stuff"


async def test_the_longest_gap_leads_to_where_it_begins(line: Path) -> None:
    async with opened(line) as (app, pilot):
        await healthy(app, pilot)
        look(app, pick=GAPPY)
        (row,) = [row for row in shown(app).splitlines() if "dropped out 1×" in row]
        assert " 200 " in row and "2.000 s" in row
        await pilot.press("g")
        await at_frame(app, pilot, 4000)
        assert app.state.ask == "id:200"


async def test_a_row_opens_as_frames_from_its_newest(line: Path) -> None:
    async with opened(line) as (app, pilot):
        await healthy(app, pilot)
        look(app, pick=STEADY)
        await pilot.press("enter")
        await until(pilot, lambda: is_open(app, "frames") and app.state.ask == "id:100")
        assert len(picture_of(app).matches) == 1003 and app.state.pick == STEADY


async def test_what_is_in_hand_narrows(line: Path) -> None:
    async with opened(line) as (app, pilot):
        view = await healthy(app, pilot)
        await pilot.press("tab")
        assert view.terms(app.here) == ["fault:crc", "near(fault:crc within 50ms)"]
        await pilot.press("tab")
        look(app, pick=GAPPY)
        await until(pilot, lambda: view.terms(app.here) and view.terms(app.here)[0] == "id:200")


async def test_a_bit_rate_is_corrected_refused_and_undone(line: Path) -> None:
    async with opened(line) as (app, pilot):
        await healthy(app, pilot)
        before = load_manifest(line).buses

        async def say(text: str) -> None:
            await pilot.press("r")
            await until(pilot, lambda: len(app.screen_stack) == 2)
            await pilot.press("enter", "ctrl+u", *text, "enter")
            await until(pilot, lambda: len(app.screen_stack) == 1)

        await say("fast")
        await until(pilot, lambda: has_said(app, "“fast” is no bit rate in bit/s"))
        await say("0")
        await until(pilot, lambda: has_said(app, "no bus runs at 0 bit/s"))
        assert load_manifest(line).buses == before
        await say("125000 4000000")
        await until(pilot, lambda: load_manifest(line).buses[0].rates == (125_000, 4_000_000))
        await pilot.press("backspace")
        await until(pilot, lambda: load_manifest(line).buses == before)
        await pilot.press("greater_than_sign")
        await until(pilot, lambda: load_manifest(line).buses[0].rates == (125_000, 4_000_000))


async def test_a_nominal_cycle_is_named_refused_and_forgotten(line: Path) -> None:
    async def name(pilot: Pilot[None], text: str) -> None:
        await pilot.press("N")
        await until(pilot, lambda: len(app.screen_stack) == 2)
        await pilot.press("ctrl+u", *text, "enter")
        await until(pilot, lambda: len(app.screen_stack) == 1)

    async with opened(line) as (app, pilot):
        await healthy(app, pilot)
        look(app, pick=GAPPY)
        await name(pilot, "soon")
        await until(pilot, lambda: has_said(app, "“soon” is no time in ms"))
        await name(pilot, "25,5 ms")
        await until(pilot, lambda: load_manifest(line).nominal == {GAPPY: 25_500_000})
        await until(pilot, lambda: any(" 200 " in row and "25.5" in row for row in shown(app).splitlines()))
        await pilot.press("backspace")
        await until(pilot, lambda: load_manifest(line).nominal == {})
        await name(pilot, "30")
        await until(pilot, lambda: load_manifest(line).nominal == {GAPPY: 30_000_000})
        await name(pilot, "")
        await until(pilot, lambda: load_manifest(line).nominal == {})


async def write(app: KeelApp, pilot: Pilot[None], check: str) -> None:
    await pilot.press("a")
    await until(pilot, lambda: len(app.screen_stack) == 2)
    await pilot.press(*check, "enter")
    await until(pilot, lambda: len(app.screen_stack) == 1)


async def test_a_check_that_fails_leads_to_its_frame(line: Path) -> None:
    async with opened(line) as (app, pilot):
        await healthy(app, pilot)
        await write(app, pilot, "cycle(200) < 100ms")
        await write(app, pilot, "count(fault:crc) = 0")
        await write(app, pilot, "load(a) < 90%")
        await until(pilot, lambda: len(load_manifest(line).checks) == 3)
        await until(pilot, lambda: shown(app).count("✕ ") == 4)
        # Cycles, faults, checks, in turn.
        await pilot.press("tab", "tab")
        assert check_in_hand(app) == "cycle(200) < 100ms"
        await pilot.press("enter")
        await at_frame(app, pilot, 4000)
        assert app.state.ask == "id:200"
        await pilot.press("backspace")
        await until(pilot, partial(is_open, app, "health"))
        await pilot.press("down")
        assert check_in_hand(app) == "count(fault:crc) = 0"
        await pilot.press("enter")
        await until(pilot, lambda: is_open(app, "frames") and app.state.ask == "fault:crc")


async def test_a_check_is_dropped_only_with_the_checks_in_hand(line: Path) -> None:
    async with opened(line) as (app, pilot):
        await healthy(app, pilot)
        await write(app, pilot, "load(a) < 90%")
        await until(pilot, lambda: load_manifest(line).checks == ["load(a) < 90%"])
        await pilot.press("delete")
        await until(pilot, lambda: has_said(app, "tab to the checks first"))
        assert load_manifest(line).checks
        await until(pilot, lambda: "✓" in shown(app) or "holds" in shown(app) or "load(a)" in shown(app))
        await pilot.press("tab", "tab", "delete")
        await until(pilot, lambda: not load_manifest(line).checks)


async def test_a_wrong_check_is_told_and_not_kept(line: Path) -> None:
    async with opened(line) as (app, pilot):
        await healthy(app, pilot)
        await write(app, pilot, "speed(0A4) < 5")
        await until(pilot, lambda: has_said(app, "is no check"))
        assert load_manifest(line).checks == []


async def test_clicks_pick_faults_and_rows(line: Path) -> None:
    async with opened(line) as (app, pilot):
        view = await healthy(app, pilot)
        text = shown(app).splitlines()
        row = next(i for i, r in enumerate(text) if "stuff error" in r)
        await pilot.click(Stage, offset=(text[row].index("stuff error"), row))
        assert view.terms(app.here)[0] == "fault:stuff"
        row = next(i for i, r in enumerate(text) if " 100 " in r and "steady" in r)
        await pilot.click(Stage, offset=(20, row))
        await until(pilot, lambda: app.state.pick == STEADY)
        await pilot.click(Stage, offset=(20, row), times=2)
        await until(pilot, lambda: is_open(app, "frames") and app.state.ask == "id:100")


async def test_without_a_fault_there_is_nothing_to_jump_to(line: Path) -> None:
    async with opened(line) as (app, pilot):
        await healthy(app, pilot)
        look(app, ask="not fault")
        await until(pilot, lambda: "no faulty frame" in shown(app))
        await pilot.press("f", "l")
        await until(pilot, lambda: has_said(app, "there is no fault to jump to"))
        assert app.state.view == "health"
