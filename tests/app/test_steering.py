"""Baseline, hush, groups, narrowing, notes, named asks, checks, back and forward, through the pilot."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest

from keel.app.desk.maker import Maker
from keel.app.desk.making import Wish
from keel.app.desk.picture import Picture
from keel.app.views.frames.going import goal_of
from keel.app.views.health.wants import Health
from keel.app.views.watch.wants import Hush, Watched, WatchWant
from keel.ask.fetch import frames_at
from keel.ask.names import scene_of
from keel.model.bus import Bus
from keel.model.identity import Form, pack_key
from keel.model.span import Span
from keel.model.units import NS_PER_S
from keel.store.manifest import Manifest, load_manifest
from keel.store.recording import Recording
from keel.store.writer import Writer, create_recording
from tests.app.driving import (
    has_said,
    is_open,
    look,
    opened,
    part_of,
    pick_of,
    picture_of,
    plain_recording,
    said,
    shown,
    until,
)
from tests.making import START, Row, batch


@pytest.fixture
def plain(tmp_path: Path) -> Path:
    return plain_recording(tmp_path / "plain.keel")


async def test_the_baseline_counts_from_the_lens_on_and_says_who_is_new(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        look(app, lens=Span(START + 2 * NS_PER_S, START + 3 * NS_PER_S))
        await until(pilot, lambda: picture_of(app).wish.lens is not None)
        await pilot.press("b")
        await until(pilot, lambda: "counting since 2.0 s" in shown(app))
        assert [t.frames for t in (part_of(app, Watched).since or {}).values()] == [100, 20]
        await pilot.press("b")
        await until(pilot, lambda: "counting since" not in shown(app))


async def test_hush_leaves_only_what_did_not_move_before(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        look(app, lens=Span(START, START + NS_PER_S // 4))
        await until(pilot, lambda: picture_of(app).wish.lens is not None)
        await pilot.press("u")
        await until(pilot, lambda: "; 0 identifiers react" in shown(app))
        look(app, lens=Span(START + NS_PER_S, START + 2 * NS_PER_S))
        # The counter's higher bits move, and the slow value of 220.
        await until(pilot, lambda: "; 2 identifiers react" in shown(app) and "learnt for 0.2 s" in shown(app))
        await pilot.press("u")
        await until(pilot, lambda: "learnt" not in shown(app))


async def test_groups_by_bus_and_by_a_range_that_was_drawn(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("g")
        assert "bus a  2" in shown(app) and "bus b  1" in shown(app)
        await pilot.press("g", "g", "home", "G")
        first = pick_of(app)
        await pilot.press("down")
        await until(pilot, lambda: pick_of(app) != first)
        await pilot.press("G")
        assert "identifiers 0A4 to 220  3" in shown(app)


async def test_silent_identifiers_move_to_the_end_and_show_since_when(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        # At the end of this lens only one of three is silent: by its number it would stand in the middle.
        look(app, lens=Span(START, START + 4 * NS_PER_S))
        await until(pilot, lambda: picture_of(app).wish.lens is not None)
        rows = [row for row in shown(app).splitlines() if any(f" {ident} " in row for ident in ("0A4", "1A0", "220"))]
        assert [next(i for i in ("0A4", "1A0", "220") if f" {i} " in row) for row in rows[:3]] == ["0A4", "220", "1A0"]
        assert ["silent" in row for row in rows[:3]] == [False, False, True] and "silent 2.5" in rows[2]


async def test_health_under_an_ask_is_of_the_ask_and_a_jump_keeps_it(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        look(app, ask="bus:a")
        await pilot.press("3")
        await until(
            pilot, lambda: is_open(app, "health") and picture_of(app).wish.ask == "bus:a" and "b  no" in shown(app)
        )
        health = part_of(app, Health)
        mean = health.loads[0].mean
        assert mean is not None and health.loads[1].frames == 0
        # Drawn is what the figures under it say.
        assert health.series.load[0].mean() == pytest.approx(mean, rel=0.02) and not health.series.load[1].any()
        assert "by the frames of the ask" in shown(app) and "no frame of the ask" in shown(app)
        assert "of all" in app.head.paint(160, 1)[0].text()
        await pilot.press("tab", "f")
        await until(pilot, lambda: is_open(app, "frames"))
        assert app.state.ask == "bus:a fault:crc" and len(picture_of(app).matches) == 1


def hush_in(picture: Picture) -> Hush | None:
    watched = picture.part(Watched)
    return watched.hush if watched is not None else None


async def test_nothing_is_hushed_before_all_was_looked_at(plain: Path) -> None:
    recording = Recording(plain)
    snapshot, maker = recording.snapshot(), Maker(recording)
    learnt, rest = Span(START, START + NS_PER_S), Span(START + NS_PER_S, START + 3 * NS_PER_S)
    wish = Wish(plain, rest, "moved", False, 10, want=WatchWant(hush=learnt))
    # As if there were no time for a single look: nothing is known, and nothing may be kept of it.
    matcher = maker._matcher_of("moved", scene_of(snapshot))
    run = matcher.run
    matcher.run = lambda s, lens=None, patience=None: replace(run(s, lens), looked=0.5)  # type: ignore[method-assign, assignment]
    hush = hush_in(maker.make(wish, snapshot, lambda: False))
    assert hush is not None and not hush.complete and not hush.reacting and maker.unfinished
    matcher.run = run  # type: ignore[method-assign]
    hush = hush_in(maker.make(wish, snapshot, lambda: True))
    assert hush is not None and hush.complete and not maker.unfinished
    assert sum(int(flips.sum()) for flips in hush.noise.values()) > 100
    # In one second 1A0 came often enough to be judged, what came once in 400 ms did not.
    assert {key & 0xFFF for key in hush.slow} <= {0x220}


async def test_only_this_not_this_back_and_forward(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("o")
        await until(pilot, lambda: len(app.screen_stack) == 2)
        await pilot.press("enter")
        await until(pilot, lambda: app.state.ask == "id:0A4" and len(picture_of(app).census) == 1)
        await pilot.press("backspace")
        await until(pilot, lambda: app.state.ask == "" and len(picture_of(app).census) == 3)
        await pilot.press("greater_than_sign")
        await until(pilot, lambda: app.state.ask == "id:0A4")
        await pilot.press("greater_than_sign")
        assert has_said(app, "there is nothing to redo")


async def test_a_note_on_a_frame_is_kept_and_shown_and_can_be_taken_back(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("2")
        await until(pilot, lambda: is_open(app, "frames"))
        await pilot.press("down", "c")
        await until(pilot, lambda: len(app.screen_stack) == 2)
        await pilot.press(*"odd", "enter")
        await until(pilot, lambda: "✎ odd" in shown(app))
        assert [(c.number, c.text) for c in load_manifest(plain).comments] == [(1, "odd")]
        await pilot.press("backspace")
        await until(pilot, lambda: "✎" not in shown(app))
        assert load_manifest(plain).comments == []


async def test_go_to_a_number_and_to_a_time_and_set_zero_there(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("2")
        await until(pilot, lambda: is_open(app, "frames"))
        await pilot.press("colon", *"100", "enter")
        await until(pilot, lambda: "· frame 100 of" in said(app))
        await pilot.press("colon", *"1.5s", "enter")
        await until(pilot, lambda: "1.500000" in shown(app) and "frame 100 of" not in said(app))
        await pilot.press("z", "t", "t")
        assert "from zero" in shown(app) and "+0.000000" in shown(app)


async def test_a_check_is_written_run_and_removed(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("3")
        await until(pilot, lambda: is_open(app, "health") and "your checks" in shown(app))
        await pilot.press("a")
        await until(pilot, lambda: len(app.screen_stack) == 2)
        for char in "count(fault)<1":
            await pilot.press(
                {"(": "left_parenthesis", ")": "right_parenthesis", "<": "less_than_sign"}.get(char, char)
            )
        await pilot.press("enter")
        await until(pilot, lambda: "✕ failed" in shown(app) and "1 frames" in shown(app))
        await pilot.press("tab", "tab", "delete")
        await until(pilot, lambda: "✕ failed" not in shown(app))
        assert load_manifest(plain).checks == []


async def test_completion_and_asks_entered_before(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("slash", *"fault", "colon", *"cr", "tab")
        assert app.asking.input.value == "fault:crc"
        await pilot.press("enter")
        await until(pilot, lambda: app.state.ask == "fault:crc")
        await pilot.press("slash", "ctrl+u", *"bus", "colon", "tab")
        assert app.asking.input.value == "bus:a"
        await pilot.press("up")
        assert app.asking.input.value == "fault:crc"
        await pilot.press("down", "escape")
        assert not app.asking.typing and app.state.ask == "fault:crc"


async def test_an_ask_is_kept_under_a_name_in_the_recording_and_for_the_user(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        look(app, ask="bus:b")
        await pilot.press("A")
        await until(pilot, lambda: len(app.screen_stack) == 2)
        await pilot.press("enter")
        await until(pilot, lambda: type(app.screen).__name__ == "AskText")
        await pilot.press(*"hotel", "enter")
        await until(pilot, lambda: [a.name for a in load_manifest(plain).asks] == ["hotel"])
        look(app, ask="")
        await until(pilot, lambda: picture_of(app).snapshot.manifest.asks)
        await pilot.press("A")
        await until(pilot, lambda: len(app.screen_stack) == 2)
        await pilot.press("enter")
        await until(pilot, lambda: app.state.ask == "bus:b")


async def test_a_bus_of_any_name_is_asked_for_by_its_row(tmp_path: Path) -> None:
    found = [Row(START + i * 10_000_000, 0x100, bytes([i]), bus=i % 2) for i in range(20)]
    names = ["engine bus", 'a"b, (c)']
    folder = tmp_path / "r.keel"
    create_recording(folder, Manifest("r", "a test", START, [Bus(name) for name in names]))
    writer = Writer(folder, journal=False)
    writer.append(batch(found))
    writer.close()
    async with opened(folder) as (app, pilot):
        for name in names:
            await pilot.press("enter")
            await until(pilot, lambda: is_open(app, "frames") and len(picture_of(app).matches) == 10)
            assert set(frames_at(picture_of(app).matches, 0, 10).bus.tolist()) == {names.index(name)}
            await pilot.press("backspace", "down")
            await until(pilot, lambda: is_open(app, "watch") and not picture_of(app).wish.ask)


async def test_a_row_is_opened_under_the_ask_that_is_in_force(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        look(app, ask="moved", pick=pack_key(0, Form.BASE, 0x220))
        await until(pilot, lambda: picture_of(app).wish.ask == "moved")
        await pilot.press("enter")
        await until(pilot, lambda: is_open(app, "frames"))
        assert app.state.ask == "moved id:220" and len(picture_of(app).matches) == 5


async def test_an_ask_that_cannot_be_used_shows_nothing_and_says_why(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        look(app, ask="not name:Gone")
        for key, view in (("1", "watch"), ("2", "frames"), ("3", "health")):
            await pilot.press(key)
            await until(pilot, lambda view=view: is_open(app, view) and picture_of(app).ask_error)  # type: ignore[misc]
            assert len(picture_of(app).matches) == 0
            assert "cannot be used" in shown(app) and "no message is called “Gone”" in shown(app)
            assert "the ask cannot be used" in said(app)
        await pilot.press("backspace", "backspace", "backspace")
        await until(pilot, lambda: not picture_of(app).ask_error and "0A4" in shown(app))


async def test_what_matches_nothing_says_what_was_meant(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        look(app, ask="id:0220")
        await until(pilot, lambda: "the 11-bit identifier of that number is id:220" in said(app))
        assert "id:220" in shown(app)


def test_places_as_people_say_them() -> None:
    whole = Span(START, START + 100 * NS_PER_S)
    assert goal_of("#12 345", whole, START, True) == ("frame", 12345)
    assert goal_of("1.5s", whole, START, True) == ("time", START + 1_500_000_000)
    # The recordings of the tests begin at 22:13:20.
    assert goal_of("22:13:21.5", whole, START, True) == ("time", START + 1_500_000_000)
    # Before a zero of its own, and without a date no time of day.
    assert goal_of("-3ms", Span(-NS_PER_S, NS_PER_S), 0, False) == ("time", -3_000_000)
    for text, is_dated in (("noon", True), ("22:13:21", False)):
        with pytest.raises(ValueError):
            goal_of(text, whole, START, is_dated)
