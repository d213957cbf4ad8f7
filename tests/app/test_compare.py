"""Compare by keys and mouse: alignment, buses, spans, jumps to both sides, and what is said when there is nothing."""

from __future__ import annotations

from pathlib import Path

import pytest
from textual.pilot import Pilot

from keel.app.frame.stage import Stage
from keel.app.main import KeelApp
from keel.app.views.compare.choices import CompareChoices
from keel.compare.differences import Comparison
from keel.model.identity import Form, pack_key
from keel.store.manifest import edit_manifest
from tests.app.driving import compare_with, compared, has_said, is_open, look, opened, picture_of, shown, until
from tests.making import START, Row, batch, new_recording, recorded

MS = 1_000_000


def traffic(constant: int, until_ms: int = 5000) -> list[Row]:
    """Two identifiers on two buses; the second's first byte is a constant."""
    rows = [Row(START + i * 10 * MS, 0x100, bytes([i & 0xFF, 3])) for i in range(until_ms // 10)]
    rows += [Row(START + i * 50 * MS + 5, 0x200, bytes([constant, i & 3]), bus=1) for i in range(until_ms // 50)]
    return sorted(rows, key=lambda row: row.time)


@pytest.fixture
def pair(tmp_path: Path) -> tuple[Path, Path]:
    """A recording, and one whose constant differs in one bit."""
    good, bad = tmp_path / "good.keel", tmp_path / "bad.keel"
    recorded(good, batch(traffic(0x50)))
    recorded(bad, batch(traffic(0x51)))
    return good, bad


async def comparing(app: KeelApp, pilot: Pilot[None], other: Path) -> Comparison:
    """What was found against another recording."""
    compare_with(app, other)
    await until(pilot, lambda: is_open(app, "compare") and compared(app) is not None)
    return found_in(app)


def found_in(app: KeelApp) -> Comparison:
    found = compared(app)
    assert found is not None
    return found


def align_of(app: KeelApp) -> str:
    task = app.state.of(CompareChoices).task
    assert task is not None
    return task.align


async def test_a_constant_that_differs_is_first_and_both_sides_are_shown(pair: tuple[Path, Path]) -> None:
    good, bad = pair
    async with opened(good) as (app, pilot):
        found = await comparing(app, pilot, bad)
        await until(pilot, lambda: "bit 0 of 200 is always 0 in this and always 1 in the other" in shown(app))
        assert len(found.differences) == 1 and "this 0 in all 100   other 1 in all 100" in shown(app)
        await pilot.press("enter")
        await until(pilot, lambda: is_open(app, "frames") and app.state.ask == "id:200 bus:b")
        assert app.state.folder == good and len(picture_of(app).matches) == 100
        await pilot.press("6")
        await until(pilot, lambda: is_open(app, "compare"))
        await pilot.press("b")
        await until(pilot, lambda: app.state.folder == bad and is_open(app, "frames"))
        assert app.state.ask == "id:200 bus:b"


async def test_equal_recordings_have_no_difference(pair: tuple[Path, Path], tmp_path: Path) -> None:
    recorded(tmp_path / "same.keel", batch(traffic(0x50)))
    async with opened(pair[0]) as (app, pilot):
        await comparing(app, pilot, tmp_path / "same.keel")
        await until(pilot, lambda: "No difference beyond what chance makes." in shown(app))
        await pilot.press("down", "enter", "b", "end")
        assert app.state.view == "compare"


async def test_an_empty_recording_is_said_to_be_empty(pair: tuple[Path, Path], tmp_path: Path) -> None:
    new_recording(tmp_path / "empty.keel")
    async with opened(pair[0]) as (app, pilot):
        await comparing(app, pilot, tmp_path / "empty.keel")
        await until(pilot, lambda: "the other has no frame" in shown(app))
        assert "No difference" not in shown(app) and "500 frames in this, none in the other" in shown(app)


async def test_what_is_no_recording_is_told(pair: tuple[Path, Path], tmp_path: Path) -> None:
    async with opened(pair[0]) as (app, pilot):
        await pilot.press("6")
        await until(pilot, lambda: is_open(app, "compare"))
        compare_with(app, tmp_path / "nowhere.keel")
        await until(pilot, lambda: "nowhere" in shown(app))
        assert compared(app) is None and app.is_running


async def test_they_are_laid_over_each_other_in_other_ways(pair: tuple[Path, Path]) -> None:
    good, bad = pair
    async with opened(good) as (app, pilot):
        found = await comparing(app, pilot, bad)
        assert found.differences
        seen = [align_of(app)]
        for _ in range(3):
            await pilot.press("t")
            await until(pilot, lambda: is_open(app, "compare") and compared(app) and align_of(app) != seen[-1])
            seen.append(align_of(app))
        assert len(set(seen[:3])) == 3 and seen[3] == seen[0]


async def test_buses_of_other_names_are_paired_by_hand(pair: tuple[Path, Path]) -> None:
    good, bad = pair
    with edit_manifest(bad) as manifest:
        manifest.buses = [type(bus)(f"can{i}", bus.bit_rate, bus.fast_bit_rate) for i, bus in enumerate(manifest.buses)]
    async with opened(good) as (app, pilot):
        found = await comparing(app, pilot, bad)
        # One identifier on each says too little to pair them by; that is said, and how to.
        await until(
            pilot, lambda: "bus can0 of the other is none of this" in shown(app) and "u says otherwise" in shown(app)
        )
        assert {difference.kind for difference in found.differences} == {"only_in_a", "only_in_b"}
        for ours, theirs in (("a", "can0"), ("b", "can1")):
            await pilot.press("u")
            await until(pilot, lambda: len(app.screen_stack) == 2)
            choices = list(app.screen.query_one("OptionList").options)  # type: ignore[attr-defined]
            place = next(
                i for i, o in enumerate(choices) if f"this bus {ours} is the other's {theirs}" in str(o.prompt)
            )
            await pilot.press("home", *["down"] * place, "enter")
            there = ("a", "b").index(ours)
            await until(pilot, lambda at=there: compared(app) and found_in(app).buses.partners[at] == at)  # type: ignore[misc]
        await until(pilot, lambda: "bit 0 of 200 is always 0 in this and always 1 in the other" in shown(app))
        assert [difference.kind for difference in found_in(app).differences] == ["constant"]
        # And apart again.
        await pilot.press("u")
        await until(pilot, lambda: len(app.screen_stack) == 2)
        await pilot.press(*"can1 none", "enter")
        await until(pilot, lambda: compared(app) and found_in(app).buses.partners == (0, None))


async def test_a_jump_to_a_side_without_such_frames_is_told(tmp_path: Path) -> None:
    recorded(tmp_path / "a.keel", batch(traffic(0x50)))
    recorded(tmp_path / "b.keel", batch([row for row in traffic(0x50) if row.ident == 0x100]))
    async with opened(tmp_path / "a.keel") as (app, pilot):
        found = await comparing(app, pilot, tmp_path / "b.keel")
        place = next(i for i, d in enumerate(found.differences) if d.key == pack_key(1, Form.BASE, 0x200))
        await pilot.press(*["down"] * place, "b")
        await until(pilot, lambda: app.state.folder == tmp_path / "b.keel" or has_said(app, "no such frames"))
        assert app.is_running


async def test_two_spans_need_two_lenses(pair: tuple[Path, Path]) -> None:
    async with opened(pair[0]) as (app, pilot):
        await pilot.press("6", "plus", "s")
        await until(pilot, lambda: "this side is" in shown(app))
        first = app.state.of(CompareChoices).first_span
        assert first is not None
        # The same lens again is no second side.
        await pilot.press("s")
        assert app.state.of(CompareChoices).first_span == first and compared(app) is None
        # Both keys come before there is a picture of the lens that is meant.
        app.press("right_square_bracket")
        app.press("s")
        await until(pilot, lambda: compared(app) is not None)
        found = found_in(app)
        assert found.a.span == first and found.b.span.start > first.start


async def test_a_click_takes_a_difference_and_a_double_click_opens_it(pair: tuple[Path, Path], tmp_path: Path) -> None:
    rows = [row for row in traffic(0x51) if row.ident != 0x100]
    recorded(tmp_path / "much.keel", batch(rows))
    async with opened(pair[0]) as (app, pilot):
        found = await comparing(app, pilot, tmp_path / "much.keel")
        assert len(found.differences) >= 2
        await until(pilot, lambda: "what is different" in shown(app))
        last = len(found.differences) - 1
        row = next(i for i, line in enumerate(shown(app).splitlines()) if found.differences[last].why[:30] in line)
        await pilot.click(Stage, offset=(20, row))
        assert app.state.of(CompareChoices).in_hand == found.differences[last]


async def test_an_ask_that_cannot_be_used_compares_nothing(pair: tuple[Path, Path]) -> None:
    good, bad = pair
    async with opened(good) as (app, pilot):
        await comparing(app, pilot, bad)
        look(app, ask="bus:nowhere")
        await until(pilot, lambda: "Not compared: the ask cannot be put to this" in shown(app))
        assert "no bus is called “nowhere”; expected a or b" in shown(app) and "bit 0 of 200" not in shown(app)
