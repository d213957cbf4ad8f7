"""The views driven through the real app, on recordings of known content."""

from __future__ import annotations

from functools import partial
from pathlib import Path

import pytest
from textual.pilot import Pilot

from keel.app.frame.stage import Stage
from keel.app.main import KeelApp
from keel.app.views.every import DOORS
from keel.app.views.watch.choices import WatchChoices
from keel.app.views.watch.view import Watch
from keel.model.faults import Fault
from keel.model.frames import Flag
from keel.model.span import Mark
from keel.store.manifest import edit_manifest, load_manifest
from tests.app.driving import (
    candidate_of,
    cursor_of,
    has_said,
    is_open,
    look,
    notes,
    opened,
    pick_of,
    plain_recording,
    result_of,
    said,
    shown,
    until,
)
from tests.making import START, Row, batch, recorded


async def test_watch_lists_every_identifier_and_follows_the_pick(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        text = shown(app)
        assert "0A4" in text and "1A0" in text and "220" in text
        assert "10.0" in text and "✕ 1" in text
        assert pick_of(app) & 0xFFF == 0x0A4
        await pilot.press("down")
        await until(pilot, lambda: app.state.pick is not None and app.state.pick & 0xFFF == 0x220)
        await pilot.press("backspace")
        assert pick_of(app) & 0xFFF == 0x0A4


def keys_of(app: KeelApp) -> tuple[int, ...]:
    watch = app.views["watch"]
    assert isinstance(watch, Watch)
    return watch.layout(app.here).roster.keys


async def test_watch_sorts_by_key_and_by_click(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        assert [k & 0xFFF for k in keys_of(app)] == [0x0A4, 0x220, 0x1A0]
        await pilot.click(Stage, offset=(shown(app).splitlines()[0].index("frames") + 3, 0))
        assert app.state.of(WatchChoices).sort == "frames"
        assert [k & 0xFFF for k in keys_of(app)] == [0x0A4, 0x1A0, 0x220]
        await pilot.press("S")
        assert [k & 0xFFF for k in keys_of(app)] == [0x220, 0x1A0, 0x0A4]
        await pilot.press("s")
        assert app.state.of(WatchChoices).sort == "rate"


async def test_enter_shows_only_that_identifier_and_backspace_returns(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("down", "enter")
        await until(pilot, lambda: app.state.view == "frames" and "60 frames" in said(app))
        assert app.state.ask == "id:220"
        rows = shown(app).splitlines()[1:]
        assert all(" 220 " in row for row in rows if "+0.050000" in row)
        assert "· frame 1 of 60" in said(app)
        await pilot.press("backspace")
        assert (app.state.view, app.state.ask) == ("watch", "")


async def test_frames_show_both_differences(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("2")
        await until(pilot, lambda: "anatomy" in shown(app))
        second = next(row for row in shown(app).splitlines() if " 1A0 " in row)
        assert "+0.001000" in second
        same = [row for row in shown(app).splitlines() if " 0A4 " in row and "+0.010000" in row]
        assert len(same) > 5
        await pilot.press("t")
        assert "clock UTC" in shown(app) and "22:13:20.000000" in shown(app)
        await pilot.press("x")
        assert "payload, bits" in shown(app) and "00000001 00000111" in shown(app)
        await pilot.press("x")
        assert "payload, decimal" in shown(app) and "  1   7" in shown(app)
        await pilot.press("x")
        assert "payload, text" in shown(app) and "steady" in shown(app)


async def test_frames_jump_to_the_next_fault_and_explain_it(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("2")
        await until(pilot, lambda: "anatomy" in shown(app))
        await pilot.press("f")
        text = shown(app)
        assert "✕ CRC: the checksum" in text and "error frame" in text
        here = cursor_of(app)
        await pilot.press("f")
        assert cursor_of(app) == here
        await pilot.press("end", "F")
        assert cursor_of(app) == here


async def test_an_ask_is_checked_while_it_is_typed(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("slash", *"gap>12")
        await until(pilot, lambda: "at 5: “12” is not understood" in said(app))
        await pilot.press("enter")
        assert app.asking.typing and app.state.ask == ""
        await pilot.press("m", "s", "enter")
        await until(pilot, lambda: app.state.ask == "gap>12ms" and "frames" in said(app) and not app.asking.typing)
        await until(pilot, lambda: app.picture is not None and app.picture.wish.ask == "gap>12ms")
        assert app.picture is not None and len(app.picture.matches) == 74 + 59
        await pilot.press("slash", *"zzz", "escape")
        assert app.state.ask == "gap>12ms" and app.asking.input.value == "gap>12ms"
        await pilot.press("backspace")
        assert app.state.ask == ""


async def test_keys_typed_into_the_ask_do_nothing_else(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("slash", *"m49q")
        assert app.asking.input.value == "m49q" and app.state.view == "watch"
        assert load_manifest(plain).marks == []


async def test_the_lens_is_set_by_keys_and_mouse_and_everything_follows(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        whole = app.picture.whole if app.picture else None
        assert whole is not None
        await pilot.press("plus")
        lens = app.state.lens
        assert lens is not None and lens.seconds == pytest.approx(whole.seconds / 2)
        await until(pilot, lambda: "in lens" in said(app))
        await pilot.press("right_square_bracket")
        assert app.state.lens is not None and app.state.lens.start > lens.start
        await pilot.press("0")
        assert app.state.lens is None
        await pilot.mouse_down("#tape", offset=(8 + 75, 1))
        await pilot.hover("#tape", offset=(8 + 149, 1))
        await pilot.mouse_up("#tape", offset=(8 + 149, 1))
        await until(pilot, lambda: app.state.lens is not None)
        dragged = app.state.lens
        assert dragged is not None and dragged.start == pytest.approx(whole.start + whole.seconds / 2 * 1e9, abs=5e7)
        await until(pilot, lambda: "1A0" not in shown(app))
        await pilot.press("backspace")
        await until(pilot, lambda: "1A0" in shown(app))


async def test_a_lens_without_frames_says_so_and_how_to_go_on(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("slash", *"len>60", "enter")
        await until(pilot, lambda: "No frame meets the ask" in shown(app))
        for view in ("2", "3"):
            await pilot.press(view)
            await until(pilot, lambda: "No frame meets the ask" in shown(app))


async def test_health_shows_faults_and_who_stopped_with_jumps(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("3")
        await until(pilot, lambda: "stopped" in shown(app))
        text = shown(app)
        assert "✕ CRC" in text and "mean" in text and "peak" in text
        stopped = next(row for row in text.splitlines() if "stopped" in row)
        assert "1A0" in stopped and "1.5" in stopped
        await pilot.press("tab", "f")
        await until(pilot, lambda: app.state.view == "frames" and "1 frames" in said(app))
        assert app.state.ask == "fault:crc"
        await pilot.press("backspace")
        await until(pilot, lambda: app.state.view == "health" and app.state.ask == "")
        await pilot.press("tab", "home", "g")
        await until(pilot, lambda: app.state.view == "frames" and "75 frames" in said(app))
        assert app.state.ask == "id:1A0" and cursor_of(app) == 74


async def test_hunt_names_the_ramp_and_keeps_it(sailed: Path) -> None:
    async with opened(sailed) as (app, pilot):
        await pilot.press("4")
        await until(pilot, lambda: result_of(app) is not None)
        text = shown(app)
        assert "4 marks as pairs (start, end) give 2 spans" in text
        first, second = [row for row in text.splitlines() if "BowRamp" in row and "uint" in row][:2]
        assert "221" in first and "in 2 of 2 spans" in first and "220" in second
        assert "bit loom" in text
        await pilot.press("down")
        await pilot.press("enter")
        await pilot.press(*"ramp angle", "enter")
        await until(pilot, lambda: "ramp_angle" in str(load_manifest(sailed).dictionary))
        await pilot.press("1")
        await until(pilot, lambda: "ramp_angle" in shown(app))
        await pilot.press("slash", *"id:220", "enter", "2")
        await until(pilot, lambda: "kept signals" in shown(app) and "ramp_angle" in shown(app))
        while app.history.steps and app.history.steps[-1].words != "signal ramp_angle":
            await pilot.press("backspace")
        await pilot.press("backspace")
        await until(pilot, lambda: "ramp_angle" not in str(load_manifest(sailed).dictionary))


async def test_hunt_explains_itself_without_marks_and_admits_nothing(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("4")
        await until(pilot, lambda: "flag a mark" in shown(app))
        with edit_manifest(plain) as manifest:
            manifest.marks = [Mark(1, START + 500_000_000), Mark(2, START + 900_000_000)]
        # Two changes of everything in three seconds: one mark of them says nothing.
        await until(pilot, lambda: "Too little to tell what follows the marks." in shown(app))
        assert "0.5–0.9 s" in shown(app) and "found" not in shown(app)
        await pilot.press("p")
        await until(pilot, lambda: "as moments give 2 spans" in shown(app))


async def test_marks_are_flagged_at_the_frame_in_hand_and_taken_back(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("2")
        await until(pilot, lambda: "anatomy" in shown(app))
        await pilot.press("down", "down", "down", "m")
        await until(pilot, lambda: len(load_manifest(plain).marks) == 1)
        assert load_manifest(plain).marks[0] == Mark(1, START + 10_000_000)
        await pilot.press("m")
        await until(pilot, lambda: [m.number for m in load_manifest(plain).marks] == [1, 2])
        await pilot.press("backspace")
        await until(pilot, lambda: [m.number for m in load_manifest(plain).marks] == [1])


async def save(app: KeelApp, pilot: Pilot[None], *keys: str) -> None:
    """Open the window that saves, and press keys in it."""
    await until(pilot, lambda: len(app.screen_stack) == 1)
    await pilot.press("e")
    await until(pilot, lambda: len(app.screen_stack) == 2 and app.screen.focused is not None)
    await pilot.press(*keys)


async def test_everything_can_be_saved(sailed: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    async with opened(sailed) as (app, pilot):
        await pilot.press("4")
        await until(pilot, lambda: candidate_of(app) is not None)
        for downs, name in ((0, "sailed-candidate-221.svg"), (1, "sailed-load.svg"), (2, "sailed-cycles-221.svg")):
            await save(app, pilot, *["down"] * downs, "enter")
            await until(pilot, partial(has_said, app, f"exported {name}"))
        await pilot.press("slash", *"id:221", "enter", "2")
        await until(pilot, lambda: "frames" in said(app) and app.picture is not None and app.picture.wish.ask)
        await save(app, pilot, "enter")
        await until(pilot, lambda: (tmp_path / "sailed-frames.csv").exists())
        assert app.picture is not None
        whole = len(app.picture.matches) + 1
        await until(pilot, lambda: len((tmp_path / "sailed-frames.csv").read_text().splitlines()) == whole)
        await save(app, pilot, "down", "tab", "end", *["backspace"] * 4, *".png", "enter")
        await until(pilot, lambda: "ending of .svg or .pdf" in notes(app))


async def test_holding_keeps_the_picture_while_frames_arrive(tmp_path: Path) -> None:
    from keel.store.writer import Writer

    folder = plain_recording(tmp_path / "live.keel")
    writer = Writer(folder)
    writer.append(batch([Row(START + 4 * 10**9, 0x0A4, b"\x01\x02")]))
    async with opened(folder) as (app, pilot):
        await until(pilot, lambda: app.picture is not None and app.picture.snapshot.live)
        assert app.picture is not None
        count = app.picture.snapshot.frames
        await pilot.press("space")
        await until(pilot, lambda: app.picture is not None and app.picture.wish.held)
        writer.append(batch([Row(START + 5 * 10**9, 0x0A4, b"\x03\x04")] * 50))
        await pilot.pause(0.6)
        assert app.picture.snapshot.frames == count
        await pilot.press("space")
        await until(pilot, lambda: app.picture is not None and app.picture.snapshot.frames == count + 50)
    writer.close()


async def test_scrolling_back_stops_following_and_counts_what_is_newer(tmp_path: Path) -> None:
    from keel.store.writer import Writer

    folder = plain_recording(tmp_path / "live.keel")
    writer = Writer(folder)
    writer.append(batch([Row(START + 4 * 10**9, 0x0A4, b"\x01\x02")]))
    async with opened(folder) as (app, pilot):
        await pilot.press("2")
        await until(pilot, lambda: "following the newest" in said(app))
        await pilot.press("up")
        assert "following" not in said(app)
        writer.append(batch([Row(START + 5 * 10**9 + i, 0x0A4, b"\x03\x04") for i in range(50)]))
        await until(pilot, lambda: "50 since you stopped" in shown(app))
        await pilot.press("space")
        await until(pilot, lambda: "newer" not in shown(app) and "following the newest" in said(app))
        assert app.picture is not None
        assert cursor_of(app) == len(app.picture.matches) - 1
    writer.close()


@pytest.mark.parametrize("which", ["plain", "sailed"])
async def test_every_view_paints_at_every_size(which: str, request: pytest.FixtureRequest) -> None:
    async with opened(request.getfixturevalue(which)) as (app, pilot):
        for door in DOORS:
            await pilot.press(door.key)
            await until(pilot, lambda door=door: is_open(app, door.name))  # type: ignore[misc]
            for width in (0, 1, 7, 20, 60, 100, 130, 160, 220):
                for height in (0, 1, 2, 3, 5, 9, 17, 40):
                    for sheet in (app.stage, app.head, app.tape, app.bar, app.keys):
                        assert all(line.width == width for line in sheet.paint(width, height))


async def test_what_a_saved_table_cannot_say_is_told(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    odd = Row(START + 10**9, 0x100, b"", flags=int(Flag.ERROR | Flag.REMOTE), faults=int(Fault.FORM))
    recorded(tmp_path / "odd.keel", batch([Row(START, 0x100, b"\x01"), odd]))
    async with opened(tmp_path / "odd.keel") as (app, pilot):
        await pilot.press("2")
        await until(pilot, partial(is_open, app, "frames"))
        await save(app, pilot, "enter")
        await until(pilot, partial(has_said, app, "exported odd-frames.csv; 1 written without saying"))
        assert len((tmp_path / "odd-frames.csv").read_text().splitlines()) == 3
        look(app, ask="not fault")
        await until(pilot, lambda: app.picture is not None and len(app.picture.matches) == 1)
        await save(app, pilot, "enter")
        await until(pilot, lambda: notes(app).endswith("exported odd-frames.csv"))
        assert len((tmp_path / "odd-frames.csv").read_text().splitlines()) == 2
