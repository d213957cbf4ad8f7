"""Evidence as people give it in Hunt: readings, a series, a value, a bad recording; each is taken or told why not."""

from __future__ import annotations

from functools import partial
from pathlib import Path

import pytest
from textual.pilot import Pilot

from keel.app.desk.deeds import Plan
from keel.app.desk.readings import no_readings, reading, readings_of_file
from keel.app.main import KeelApp
from keel.model.units import NS_PER_S
from keel.store.manifest import Manifest, Reading, load_manifest
from tests.app.driving import (
    frame_in_hand,
    has_said,
    is_open,
    notes,
    opened,
    plain_recording,
    result_of,
    shown,
    sought,
    until,
)
from tests.making import START


async def hunting(app: KeelApp, pilot: Pilot[None]) -> None:
    await pilot.press("4")
    await until(pilot, partial(is_open, app, "hunt"))


async def give(app: KeelApp, pilot: Pilot[None], key: str, text: str) -> None:
    """Open the window for one kind of evidence, and type."""
    await until(pilot, lambda: len(app.screen_stack) == 1)
    await pilot.press(key)
    await until(pilot, lambda: len(app.screen_stack) == 2)
    await pilot.press("ctrl+u", *text, "enter")
    await until(pilot, lambda: len(app.screen_stack) == 1)


def readings(folder: Path) -> list[tuple[float, float]]:
    """Seconds and values of the readings that are kept."""
    return [((r.time - START) / NS_PER_S, r.value) for r in load_manifest(folder).readings]


async def test_readings_are_kept_at_their_times(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await hunting(app, pilot)
        await give(app, pilot, "r", "40.5 @ 1.25")
        await until(pilot, lambda: readings(plain) == [(1.25, 40.5)])
        assert has_said(app, "● reading 1: 40.5 at 1.2 s")
        await give(app, pilot, "r", "41,5 @ 2,5s")
        await until(pilot, lambda: readings(plain) == [(1.25, 40.5), (2.5, 41.5)])
        # A second one of the same moment takes the first one's place.
        await give(app, pilot, "r", "39 @ 1.25")
        await until(pilot, lambda: sorted(readings(plain)) == [(1.25, 39.0), (2.5, 41.5)])
        await pilot.press("backspace")
        await until(pilot, lambda: sorted(readings(plain)) == [(1.25, 40.5), (2.5, 41.5)])
        await give(app, pilot, "r", "")
        await until(pilot, lambda: readings(plain) == [])


async def test_a_reading_without_a_time_is_of_the_frame_in_hand(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("2", "home")
        await until(pilot, lambda: frame_in_hand(app) == 0)
        await hunting(app, pilot)
        await give(app, pilot, "r", "7")
        await until(pilot, lambda: len(readings(plain)) == 1)
        assert readings(plain)[0][1] == 7.0


async def test_a_file_of_readings_is_loaded_and_a_wrong_one_told(plain: Path, tmp_path: Path) -> None:
    (tmp_path / "display.csv").write_text("0.5,10\n1.5,20\n2.5,30\n")
    (tmp_path / "wrong.csv").write_text("time,value\nsoon,many\n")
    async with opened(plain) as (app, pilot):
        await hunting(app, pilot)
        await give(app, pilot, "r", str(tmp_path / "display.csv"))
        await until(pilot, lambda: readings(plain) == [(0.5, 10.0), (1.5, 20.0), (2.5, 30.0)])
        await give(app, pilot, "r", str(tmp_path / "wrong.csv"))
        await until(pilot, lambda: "wrong.csv" in notes(app))
        await give(app, pilot, "r", "nonsense")
        await until(pilot, lambda: has_said(app, "nonsense"))
        assert len(readings(plain)) == 3


async def test_a_value_is_looked_for_and_forgotten(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await hunting(app, pilot)
        await give(app, pilot, "v", "7")
        await until(pilot, lambda: "7" in str(sought(app).known))
        # It stands in a byte that never changes, as any number of one digit may: that proves nothing, and it is said.
        await until(pilot, lambda: "value 7" in shown(app) and "more digits" in shown(app))
        assert "undecided" in shown(app) or "Too little to tell" in shown(app)
        await give(app, pilot, "v", "5 @ 2.9s")
        known = sought(app).known
        assert known is not None
        assert known.value == "5" and known.at == START + 2_900_000_000
        await give(app, pilot, "v", "at @ soon")
        assert (known := sought(app).known) is not None and known.at is None
        await give(app, pilot, "v", "")
        assert sought(app).known is None


async def test_a_series_that_cannot_be_read_is_told(plain: Path, tmp_path: Path) -> None:
    async with opened(plain) as (app, pilot):
        await hunting(app, pilot)
        await give(app, pilot, "s", str(tmp_path / "gone.csv"))
        await until(pilot, lambda: "gone.csv" in shown(app))
        await give(app, pilot, "s", "")
        await until(pilot, lambda: sought(app).series is None)


async def test_the_lens_is_compared_with_the_rest(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("plus")
        await hunting(app, pilot)
        await pilot.press("g")
        await until(pilot, lambda: len(app.screen_stack) == 2)
        await pilot.press("enter")
        await until(pilot, lambda: len(app.screen_stack) == 1 and result_of(app) is not None)
        await until(pilot, lambda: "what is wrong" in shown(app))


@pytest.mark.parametrize("key", ["r", "v", "s"])
async def test_leaving_a_window_changes_nothing(plain: Path, key: str) -> None:
    async with opened(plain) as (app, pilot):
        await hunting(app, pilot)
        before = sought(app)
        await pilot.press(key)
        await until(pilot, lambda: len(app.screen_stack) == 2)
        await pilot.press("4", "2", "escape")
        await until(pilot, lambda: len(app.screen_stack) == 1)
        assert sought(app) == before and readings(plain) == []


def test_readings_of_one_thing_leave_those_of_others(tmp_path: Path) -> None:
    manifest = Manifest("r", "a test", START)

    def make(plan: Plan) -> None:
        for exchange in plan(manifest):
            exchange.make(manifest)

    for time, value, of in ((1, 1.0, ""), (2, 2.5, ""), (1, 9.0, "Pump.level")):
        make(reading(START + time, value, of))
    assert [(r.value, r.of) for r in manifest.readings] == [(1.0, ""), (2.5, ""), (9.0, "Pump.level")]
    make(no_readings(""))
    assert manifest.readings == [Reading(START + 1, 9.0, "Pump.level")]
    (tmp_path / "more.csv").write_text("1,11\n2,12\n")
    make(readings_of_file(tmp_path / "more.csv", "Pump.level", START))
    assert [(r.time - START, r.value) for r in manifest.readings] == [(NS_PER_S, 11.0), (2 * NS_PER_S, 12.0)]


async def test_a_bad_recording_of_no_such_name_is_told(plain: Path, tmp_path: Path) -> None:
    plain_recording(tmp_path / "other.keel")
    async with opened(plain) as (app, pilot):
        await hunting(app, pilot)
        await pilot.press("g")
        await until(pilot, lambda: len(app.screen_stack) == 2)
        await pilot.press("end", "enter")
        await until(pilot, lambda: app.screen.query("Input"))
        await pilot.press(*"nowhere.keel", "enter")
        await until(pilot, lambda: "nowhere" in shown(app))
        assert app.is_running
