"""Line: margins, two lines side by side, what a channel follows; and the story of the dead button by keys alone."""

from __future__ import annotations

from pathlib import Path

import pytest
from textual.pilot import Pilot

from keel.app.main import KeelApp
from keel.app.views.line.choices import LineChoices
from keel.app.views.line.wants import LineShown
from keel.bench.probe import record_probe
from keel.store.manifest import load_manifest
from tests.app.driving import (
    NARROW,
    has_said,
    is_open,
    notes,
    on_screen,
    opened,
    part_of,
    plain_recording,
    shown,
    until,
)
from tests.app.test_shelf import choosing
from tests.probe.test_beside import SPANS, before_and_after

WORK = [(0.0, "fault-panel", "off"), (0.3, "ramp", "down"), (0.8, "ramp", "stop")]


@pytest.fixture
def both(tmp_path: Path) -> Path:
    """A line before something and behind it."""
    return before_and_after(tmp_path)


async def in_line(app: KeelApp, pilot: Pilot[None]) -> None:
    await pilot.press("7")
    await until(pilot, lambda: is_open(app, "line") and "before" in shown(app))


def is_measured(app: KeelApp) -> bool:
    found = part_of(app, LineShown).measures.result
    return is_open(app, "line") and found is not None and found.share == 1


async def test_margins_stand_below_the_waveform_and_lead_to_the_worst(both: Path) -> None:
    async with opened(both) as (app, pilot):
        await in_line(app, pilot)
        await pilot.press("v")
        await until(pilot, lambda: "how close to failure is before?" in shown(app) and is_measured(app))
        text = shown(app)
        assert "ringing" in text and "sample point" in text and "should be" in text and "cut at" not in text
        await pilot.press("g")
        await choosing(app, pilot)
        await pilot.press("enter")
        await until(pilot, lambda: app.state.lens is not None and is_measured(app))
        assert app.state.lens is not None and app.state.lens.end - app.state.lens.start < 200_000
        assert "1 frame here" in shown(app)
        await pilot.press("v")
        await until(pilot, lambda: "cut at" in shown(app))
        await pilot.press("backspace")
        await until(pilot, lambda: "how close to failure" in shown(app))


async def test_two_lines_are_held_side_by_side(both: Path) -> None:
    async with opened(both) as (app, pilot):
        await in_line(app, pilot)
        await pilot.press("b")
        await choosing(app, pilot)
        await pilot.press("enter")
        await until(pilot, lambda: "from before to after" in shown(app) and is_measured(app))
        text = shown(app)
        assert "57 frames on both, 3 lost, 0 only on the second" in text and "later" in text and "▼" in text
        assert f"first lost at {SPANS[10][0] / 1e9:.4f}" in text


async def test_what_cannot_be_measured_is_said(tmp_path: Path) -> None:
    record_probe("ramp", 1.0, tmp_path / "r.keel", events=WORK)
    async with opened(tmp_path / "r.keel", size=NARROW) as (app, pilot):
        await pilot.press("7")
        await until(pilot, lambda: is_open(app, "line") and "motor" in shown(app))
        await pilot.press("g")
        await until(pilot, lambda: has_said(app, "v measures the margins"))
        await pilot.press("b")
        await until(pilot, lambda: has_said(app, "there is no other line to hold beside it"))
        await pilot.press("down")
        await until(pilot, lambda: app.state.of(LineChoices).in_hand is not None)
        await pilot.press("v")
        await until(pilot, lambda: has_said(app, "no frame was read from this channel"))
        await pilot.press("M", "ctrl+u", *"<hot", "enter")
        await until(pilot, lambda: "“<hot” is none" in notes(app))
        await pilot.press("M", "ctrl+u", *"<2V", "enter")
        await until(pilot, lambda: has_said(app, "motor<2V: never"))
        await pilot.press("up", "v")
        await until(pilot, lambda: "how close to failure is panel?" in shown(app) and is_measured(app))


async def probe_the_ramp(app: KeelApp, pilot: Pilot[None], work: str) -> Path:
    """Probe the panel from Bench while working it."""
    before = app.state.folder
    await pilot.press("9")
    await until(pilot, lambda: is_open(app, "bench"))
    await pilot.press("p")
    await choosing(app, pilot)
    await pilot.press(*"ramp", "enter")
    await pilot.press("enter")
    await until(pilot, lambda: "Work meanwhile" in "".join(on_screen(app, row) for row in range(40)))
    await pilot.press("ctrl+u", *work, "enter")
    await until(pilot, lambda: is_open(app, "line") and app.state.folder != before and "motor" in shown(app))
    assert app.state.folder is not None
    return app.state.folder


async def test_the_story_of_the_dead_button_by_keys_alone(shelf_of_its_own: Path, tmp_path: Path) -> None:
    async with opened(plain_recording(tmp_path / "r.keel")) as (app, pilot):
        # The button is dead: its wire repeats itself, and nothing follows.
        dead = await probe_the_ramp(app, pilot, "0s:fault-panel=on 1s:ramp=down 1.8s:ramp=stop 2.6s:ramp=up")
        await pilot.press("down", "M", "ctrl+u", *"<11V", "enter")
        await until(pilot, lambda: has_said(app, "motor<11V: never"))
        # It is mended, and probed again.
        works = await probe_the_ramp(app, pilot, "1s:ramp=down 1.8s:ramp=stop 2.6s:ramp=up 3.3s:ramp=stop")
        assert works != dead
        # Compare: the code that changed.
        await pilot.press("6", "w")
        await choosing(app, pilot)
        await pilot.press(*dead.stem, "enter")
        await until(pilot, lambda: is_open(app, "compare") and "of 31" in shown(app))
        assert "moving" in shown(app)
        # The motor's voltage follows it by so many milliseconds.
        await pilot.press("7")
        await until(pilot, lambda: is_open(app, "line"))
        await pilot.press("down", "M", "ctrl+u", *"<11V", "enter")
        await until(pilot, lambda: "motor<11V begins 38.0 ms" in shown(app))
        assert "after panel 31 changed: 1 of 2 times 00 31 → A5 D6" in shown(app)
        marks = load_manifest(works).marks
        assert [mark.of for mark in marks] == ["motor<11V"] * 4
        # Frames has its volts, and an ask finds the crossing.
        await pilot.press("2")
        await until(pilot, lambda: is_open(app, "frames") and "motor V" in shown(app) and "12.4" in shown(app))
        await pilot.press("slash", *"falls:motor<11V", "enter")
        await until(pilot, lambda: is_open(app, "frames") and app.here.picture.matches.total == 2)
        await pilot.press("4")
        await until(pilot, lambda: is_open(app, "hunt") and "motor<11V" in shown(app))
        await pilot.press("7")
        await until(pilot, lambda: is_open(app, "line"))
        # Undone like any other mark.
        await pilot.press(*["backspace"] * 5)
        await until(pilot, lambda: not load_manifest(works).marks)


async def test_messages_and_margins_are_exported(both: Path, tmp_path: Path) -> None:
    async with opened(both) as (app, pilot):
        await in_line(app, pilot)
        assert not [one for one in app.view.offers(app.here) if "margins" in one.words]
        await pilot.press("v")
        await until(pilot, lambda: is_measured(app))
        saved = {}
        for offer in app.view.offers(app.here):
            if offer.path.endswith(".csv"):
                file = tmp_path / offer.path
                assert offer.save(file) == []
                saved[offer.words.split(",")[0]] = file.read_text().splitlines()
    assert saved["margins"][0] == "bus,what,unit,min,mean,max,nominal,margin,at,limited" and len(saved["margins"]) > 10
    assert len(saved["messages by time and voltage"]) == 1 + 117
    assert saved["messages by time and voltage"][0].startswith("number,bus,id,dir,start,end,length,gap,low,high")
    assert len(saved["identifiers by time and voltage"]) == 1 + 14
    assert len(saved["frames with begin and end"]) == 1 + 117
