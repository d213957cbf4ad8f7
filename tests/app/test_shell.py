"""What all views share: sizes, colours, mouse, palette, guide, and what cannot be opened."""

from __future__ import annotations

from functools import partial
from pathlib import Path

import pytest
from rich.text import Text

from keel.app.frame.ask_line import Pointer
from keel.app.frame.stage import Stage
from keel.app.main import KeelApp
from keel.app.shared.state import State
from keel.app.views.every import DOORS
from tests.app.driving import (
    LARGE,
    NARROW,
    WIDE,
    cursor_of,
    is_open,
    notes,
    on_screen,
    opened,
    painted,
    plain_recording,
    result_of,
    shown,
    until,
)


@pytest.mark.parametrize("size", [WIDE, NARROW, LARGE, (60, 16)])
async def test_every_view_paints_at_every_size(sailed: Path, size: tuple[int, int]) -> None:
    async with opened(sailed, size) as (app, pilot):
        for key, name in (("1", "watch"), ("2", "frames"), ("3", "health"), ("4", "hunt"), ("9", "bench")):
            await pilot.press(key)
            await until(pilot, partial(is_open, app, name))
            if name == "hunt":
                await until(pilot, lambda: result_of(app) is not None)
            for line in painted(app):
                assert line.strip().cell_length == app.stage.size.width
        for bar in (app.head, app.tape, app.bar, app.keys):
            for line in bar.paint(bar.size.width, bar.size.height):
                assert line.strip().cell_length == bar.size.width


async def test_the_palette_and_the_guide_list_every_action(plain: Path) -> None:
    from keel.app.dialogs.guide import guide_text

    async with opened(plain) as (app, pilot):
        text = guide_text([(door, app.views[door.name].actions) for door in DOORS], app.everywhere)
        every = [action for view in app.views.values() for action in view.actions]
        assert all(action.help in text for action in (*every, *app.everywhere))
        await pilot.press("question_mark")
        assert len(app.screen_stack) == 2
        await pilot.press("escape")
        assert len(app.screen_stack) == 1
        await pilot.press("ctrl+p")
        await pilot.press(*"go to health")
        await pilot.pause(0.5)
        await pilot.press("enter")
        await until(pilot, lambda: app.state.view == "health")


async def test_light_colours_paint_too(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("f2")
        assert app.palette.name == "keel-light" and app.theme == "keel-light"
        await pilot.pause(0.3)
        strip = app.head.render_line(0)
        assert any(s.style and s.style.bgcolor and s.style.bgcolor.name == "#eae7df" for s in strip)


async def test_views_and_keys_answer_to_the_mouse(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.click("#views", offset=(13, 0))
        assert app.state.view == "frames"
        await until(pilot, lambda: "anatomy" in shown(app))
        await pilot.click(Stage, offset=(20, 6))
        assert cursor_of(app) == 5
        place = next(start for start, _, action in app.keys._places if action.word == "ask")
        await pilot.click("#keys", offset=(place, 0))
        assert app.asking.typing


async def test_a_bench_view_without_a_bench_says_what_to_do(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("9")
        await until(pilot, lambda: "Nothing that can be worked is being recorded here." in shown(app))
        await pilot.press("right", "enter", "down")
        assert not (plain / "control.jsonl").exists()


async def test_something_that_is_no_recording_is_said_in_one_line(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("keel.app.desk.desk.START_PATIENCE_S", 0.1)
    app = KeelApp(tmp_path / "nowhere.keel")
    async with app.run_test(size=WIDE) as pilot:
        await until(pilot, lambda: "not a recording" in notes(app))


async def test_damage_is_found_behind_the_views_told_and_stays_in_the_head(
    plain: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("keel.app.desk.desk.CHECK_AFTER_S", 0.0)
    (segment,) = (plain / "segments").glob("*.arrow")
    content = bytearray(segment.read_bytes())
    content[len(content) // 2] ^= 0xFF
    segment.write_bytes(content)
    async with opened(plain) as (app, pilot):
        await until(pilot, lambda: "✕ a file is damaged" in on_screen(app, 0))
        assert f"segments/{segment.name}: 4096 bytes are in blocks with a wrong checksum" in notes(app)
        # Another recording is another matter.
        app.change("recording", State(plain_recording(plain.parent / "other.keel")))
        await until(pilot, lambda: app.picture is not None)
        await until(pilot, lambda: "damaged" not in on_screen(app, 0))


def test_what_an_ask_means_wrongly_is_marked_as_a_whole() -> None:
    for text, at, marked in (
        ('bus:"engine bus" or fault', 4, '"engine bus"'),
        (r'name:"a \" b" fault', 5, r'"a \" b"'),
        ("(id:100 or wrong) fault", 11, "wrong"),
        ("fault (", 6, "("),
    ):
        shown = Text(text)
        pointer = Pointer()
        pointer.at = at
        pointer.highlight(shown)
        assert [text[span.start : span.end] for span in shown.spans] == [marked]
    untouched = Text("fault")
    Pointer().highlight(untouched)
    assert not untouched.spans


async def test_a_window_leaves_what_lies_under_it_in_sight(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("question_mark")
        await until(pilot, lambda: len(app.screen_stack) == 2)
        assert app.screen.styles.background.a < 1 and app.screen_stack[0].styles.background.a == 1
