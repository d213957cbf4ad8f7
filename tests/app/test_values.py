"""Values, Compare, Hunt by readings, and the dictionary picker, driven as people do."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from textual.pilot import Pilot

from keel.app.main import KeelApp
from keel.bench.messages import full_dictionary
from keel.compare.differences import Comparison
from keel.model.fields import BitField
from keel.model.frames import FrameBatch, batch_of, concat
from keel.model.identity import Form
from keel.signals.dictionary import Dictionary, Message, Signal
from keel.signals.loading import save_dictionary
from keel.store.manifest import load_manifest
from tests.app.driving import candidate_of, compare_with, compared, is_open, notes, opened, said, shown, until
from tests.making import START, recorded

SPEED = Signal("speed", BitField(0, 8), 0.5, unit="km/h", absent=((255, 255),))
GEAR = Signal("gear", BitField(8, 2), texts={0: "park", 1: "drive", 2: "reverse"})
COUNT = Signal("count", BitField(16, 4), role="counter")
DRIVE = Message("a", Form.BASE, 0x100, "Drive", (SPEED, GEAR, COUNT))
OTHER = Message("a", Form.BASE, 0x200, "Other", (Signal("level", BitField(0, 8)),))


def traffic(last: int = 255, top: int = 100) -> FrameBatch:
    """Ten seconds: a speed that goes up, a gear that changes at 4 s, and another message."""
    n = 1000
    payloads = np.zeros((n, 3), np.uint8)
    payloads[:, 0] = np.arange(n) * top // n
    payloads[:, 1] = np.where(np.arange(n) < 400, 0, 1)
    payloads[:, 2] = np.arange(n) % 16
    payloads[-1, 0] = last
    one = batch_of(START + np.arange(n) * 10_000_000, 0x100, payloads)
    level = (40 + 20 * np.sin(np.arange(100) / 4)).astype(np.uint8)[:, None]
    other = batch_of(START + np.arange(100) * 100_000_000 + 5_000_000, 0x200, level)
    whole = concat([one, other])
    return whole.take(np.argsort(whole.time, kind="stable"))


@pytest.fixture
def driven(tmp_path: Path) -> Path:
    """A recording whose speed is at last not available."""
    recorded(tmp_path / "driven.keel", traffic(), dictionary=Dictionary((DRIVE, OTHER)))
    return tmp_path / "driven.keel"


async def test_the_board_tells_values_from_none(driven: Path) -> None:
    async with opened(driven) as (app, pilot):
        await pilot.press("5")
        await until(pilot, lambda: "not available" in shown(app) and "drive" in shown(app))
        rows = {r[4:14].strip(): r for r in shown(app).splitlines()}
        assert "0.0" in rows["speed"] and "49.5" in rows["speed"] and "1×" in rows["speed"]
        assert "count" not in shown(app)
        await pilot.press("h")
        await until(pilot, lambda: "count" in shown(app))


async def test_plots_cursors_and_their_differences(driven: Path) -> None:
    async with opened(driven) as (app, pilot):
        await pilot.press("5")
        await until(pilot, lambda: "Drive.speed" in shown(app))
        await pilot.press("enter", "down", "enter", "c", "c")
        # The first at a third, the second at two thirds of 9.99 s: rows 332 and 665, × 100 / 1000 × 0.5.
        await until(pilot, lambda: "2 - 1 16.5" in shown(app).replace("−", "-"))
        text = shown(app)
        assert "Drive.gear" in text and "park" in text and "━━" in text
        await pilot.press(*["right"] * 5)
        await until(pilot, lambda: "2 - 1 16.5" not in shown(app).replace("−", "-"))
        await pilot.press("v")
        assert "Drive.gear" in shown(app)
        await pilot.press("c", "escape")
        await until(pilot, lambda: "2 - 1" not in shown(app))


async def test_what_a_display_shows_is_compared_with_the_value(driven: Path) -> None:
    async with opened(driven) as (app, pilot):
        await pilot.press("5")
        await until(pilot, lambda: "Drive.speed" in shown(app))
        await pilot.press("c", "x")
        await until(pilot, lambda: len(app.screen_stack) == 2)
        await pilot.press(*"20", "enter")
        # At 3.33 s the value is 16.5: 3.5 less than expected.
        await until(pilot, lambda: "20.0, -3.5" in shown(app).replace("−", "-"))
        assert load_manifest(driven).readings[0].of == "Drive.speed"
        await pilot.press("backspace")
        await until(pilot, lambda: not load_manifest(driven).readings)


async def test_boards_of_ones_own(driven: Path) -> None:
    async with opened(driven) as (app, pilot):
        await pilot.press("5")
        await until(pilot, lambda: "Drive.speed" in shown(app))
        await pilot.press("P")
        await until(pilot, lambda: len(app.screen_stack) == 2)
        await pilot.press("enter")
        await until(pilot, lambda: bool(load_manifest(driven).boards))
        await until(pilot, lambda: app.picture is not None and bool(app.picture.snapshot.manifest.boards))
        await pilot.press("g")
        await until(pilot, lambda: "board mine" in shown(app) and "level" not in shown(app))
        assert "Drive.speed" in shown(app)


async def test_without_a_dictionary_values_says_what_to_do(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    recorded(tmp_path / "bare.keel", traffic())
    save_dictionary(Dictionary((Message("", Form.BASE, 0x100, "Drive", (SPEED, GEAR)),)), tmp_path / "drive.dbc")
    async with opened(tmp_path / "bare.keel") as (app, pilot):
        await pilot.press("5")
        await until(pilot, lambda: "No signal is known here." in shown(app))
        await pilot.press("D")
        await until(pilot, lambda: len(app.screen_stack) == 2)
        await pilot.press("enter")
        await until(pilot, lambda: "speed" in shown(app) and "drive.dbc: 1 messages" in notes(app))
        assert [d.name for d in load_manifest(tmp_path / "bare.keel").dictionaries] == ["drive"]
        # Its copy is the recording's own: the file may go.
        (tmp_path / "drive.dbc").unlink()
        await pilot.press("D")
        await until(pilot, lambda: len(app.screen_stack) == 2)
        await pilot.press("b")
        await until(pilot, lambda: load_manifest(tmp_path / "bare.keel").dictionaries[0].bus != "")
        await pilot.press("escape")
        await until(pilot, lambda: len(app.screen_stack) == 1)
        await pilot.press("backspace", "backspace")
        await until(pilot, lambda: not load_manifest(tmp_path / "bare.keel").dictionaries)


async def test_hunt_by_readings_and_ruling_out(tmp_path: Path) -> None:
    driven, n = tmp_path / "waves.keel", 4000
    wave = (100 + 90 * np.sin(np.arange(n) / 300)).astype(np.uint8)
    payloads = np.stack([wave, np.arange(n) % 16], axis=1).astype(np.uint8)
    one = batch_of(START + np.arange(n) * 10_000_000, 0x100, payloads)
    other = batch_of(START + np.arange(n) * 10_000_000 + 3, 0x200, payloads[::-1])
    whole = concat([one, other])
    recorded(driven, whole.take(np.argsort(whole.time, kind="stable")))
    async with opened(driven) as (app, pilot):
        await pilot.press("4")
        await until(pilot, lambda: "type it, three times or more" in shown(app))
        for seconds in (2, 6, 11, 15, 21, 26, 33, 38):
            await pilot.press("r")
            await until(pilot, lambda: len(app.screen_stack) == 2)
            await pilot.press(*f"{int(wave[seconds * 100]) / 2} @ {seconds}", "enter")
            await until(pilot, lambda: len(app.screen_stack) == 1)
        await until(pilot, lambda: "8 readings" in shown(app) and candidate_of(app) is not None)
        best = candidate_of(app)
        assert best is not None and best.field.start == 0 and best.scale == pytest.approx(0.5)
        await pilot.press("enter")
        await until(pilot, lambda: len(app.screen_stack) == 2)
        await pilot.press(*"road speed, km/h", "enter")
        await until(pilot, lambda: bool(load_manifest(driven).dictionary.messages))
        kept = load_manifest(driven).dictionary.messages[0].signals[0]
        assert (kept.name, kept.unit) == ("road_speed", "km/h") and kept.scale == pytest.approx(0.5)
        await pilot.press("x")
        await until(pilot, lambda: candidate_of(app) is not best)
        await pilot.press("backspace")
        await until(pilot, lambda: candidate_of(app) == best)


async def test_hunt_takes_payloads_apart_without_evidence(driven: Path) -> None:
    async with opened(driven) as (app, pilot):
        await pilot.press("4", "u")
        await until(pilot, lambda: "counter" in shown(app) and "what are payloads made of?" in shown(app))
        assert any("↻" in row and "+1" in row for row in shown(app).splitlines())


async def test_hunt_says_what_is_wrong_in_a_bad_recording(driven: Path, tmp_path: Path) -> None:
    stuck = traffic().take(np.flatnonzero(traffic().ident == 0x100))
    recorded(tmp_path / "bad.keel", stuck, dictionary=Dictionary((DRIVE,)))
    async with opened(driven) as (app, pilot):
        await pilot.press("4", "g")
        await until(pilot, lambda: len(app.screen_stack) == 2)
        await pilot.press("end", "enter")
        await until(pilot, lambda: app.screen.query("Input"))
        await pilot.press(*str(tmp_path / "bad.keel"), "enter")
        await until(pilot, lambda: "what is wrong?" in shown(app) and "missing" in shown(app))


async def test_compare_ranks_and_jumps_to_both_sides(driven: Path, tmp_path: Path) -> None:
    recorded(tmp_path / "other.keel", traffic(last=99, top=220), dictionary=Dictionary((DRIVE, OTHER)))
    async with opened(driven) as (app, pilot):
        await pilot.press("6")
        await until(pilot, lambda: "compare this recording with another one" in shown(app))
        await pilot.press("w")
        await until(pilot, lambda: len(app.screen_stack) == 2)
        await pilot.press("end", "enter")
        await until(pilot, lambda: app.screen.query("Input"))
        await pilot.press(*str(tmp_path / "other.keel"), "enter")
        await until(pilot, lambda: "Drive.speed" in shown(app) and "aligned by their starts" in shown(app))
        assert "not available" in shown(app)
        row = next(i for i, d in enumerate(found_in(app).differences) if d.kind == "range")
        await pilot.press(*["down"] * row)
        await pilot.press("b")
        await until(
            pilot,
            lambda: (
                app.state.view == "frames" and "of 1 000" in said(app) and str(app.state.folder).endswith("other.keel")
            ),
        )


async def test_two_spans_of_one_recording_are_compared(driven: Path) -> None:
    async with opened(driven) as (app, pilot):
        await until(pilot, lambda: app.picture is not None)
        await pilot.press("6", "plus", "s")
        await until(pilot, lambda: "this side is" in shown(app))
        await pilot.press("right_square_bracket", "right_square_bracket", "right_square_bracket", "s")
        await until(pilot, lambda: compared(app) is not None)
        assert found_in(app).a.span != found_in(app).b.span


async def test_the_ferry_dictionary_shows_how_a_value_comes_about(sailed: Path) -> None:
    assert full_dictionary().messages
    async with opened(sailed) as (app, pilot):
        await pilot.press("slash", *"id:1A0", "enter", "2")
        await until(pilot, lambda: "bits 7–0, 15–8 big" in shown(app) and "× 0.1" in shown(app))


def found_in(app: KeelApp) -> Comparison:
    found = compared(app)
    assert found is not None
    return found


async def saved(app: KeelApp, pilot: Pilot[None], downs: int, name: str) -> str:
    """Save what stands at a place of the list of offers; what the file holds."""
    await pilot.press("e")
    await until(pilot, lambda: len(app.screen_stack) == 2 and app.screen.focused is not None)
    await pilot.press(*["down"] * downs, "enter")
    await until(pilot, lambda: f"exported {name}" in notes(app))
    return Path(name).read_bytes().decode("utf-8", "replace")


async def test_plots_values_and_reports_are_saved(
    driven: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    recorded(tmp_path / "other.keel", traffic(last=99, top=220), dictionary=Dictionary((DRIVE, OTHER)))
    monkeypatch.chdir(tmp_path)
    async with opened(driven) as (app, pilot):
        await pilot.press("5")
        await until(pilot, lambda: "Drive.speed" in shown(app))
        await pilot.press("enter", "down", "enter")
        assert "<svg" in await saved(app, pilot, 0, "driven-values.svg")
        table = (await saved(app, pilot, 1, "driven-values.csv")).splitlines()
        assert table[0] == "t,bus,id,signal,value,raw,unit,text" and len(table) == 2001
        assert table[-2].endswith(",a,100,Drive.speed,,255,km/h,not available")
        assert (await saved(app, pilot, 2, "driven-values.parquet")).startswith("PAR1")
        compare_with(app, tmp_path / "other.keel")
        await until(pilot, lambda: compared(app) is not None)
        assert "<svg" in await saved(app, pilot, 0, "driven-compared.html")
        assert '"differences"' in await saved(app, pilot, 1, "driven-compared.json")
        await pilot.press("1")
        await until(pilot, lambda: is_open(app, "watch"))
        assert "<svg" in await saved(app, pilot, 2, "driven-loom-100.svg")
        assert "<svg" in await saved(app, pilot, 3, "driven-ribbon-100.svg")
