"""Line: waveforms with what was read of them, stepped through, measured, read by hand."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from keel.app.main import KeelApp
from keel.app.views.line.choices import LineChoices
from keel.app.views.line.wants import LineShown
from keel.lines.code import Asked
from keel.model.span import Span
from keel.model.waveform import Analog, Channel, Logic
from keel.probe.candidates import Wanted
from keel.probe.channels import probed
from keel.probe.decoding import decode_channels
from keel.probe.stored import record
from keel.store.manifest import load_manifest
from tests.app.driving import NARROW, is_open, look, notes, opened, painted, part_of, shown, until
from tests.lines.test_can_wave import FRAMES
from tests.lines.waves import volts
from tests.lines.wires import can, uart, wave
from tests.making import START, Row, batch, recorded

CAN_LEVELS, SPANS = can(FRAMES * 6, 500_000)
CAN_LINE = wave(CAN_LEVELS)
TALK = uart(b"+12.5V\r\n" * 3, 9600, pauses=([40.0] + [0.0] * 7) * 3)


def probe(folder: Path, **waves: Logic | Analog) -> Path:
    """A recording of some channels, read by itself."""
    channels = [probed(Channel(name, n, one)) for n, (name, one) in enumerate(waves.items(), 1)]
    record(decode_channels(channels, [Wanted()], Asked()), folder, "a test")
    return folder


@pytest.fixture
def wires(tmp_path: Path) -> Path:
    """Both wires of a CAN line in volts, a serial line, and one on which nobody talks."""
    dominant = CAN_LINE.inverted
    high, low = volts(dominant, 100, 2.5, 3.5, 60, 0.02), volts(dominant, 100, 2.5, 1.5, 60, 0.02, 2)
    return probe(
        tmp_path / "wires.keel",
        CANH=Analog(0, 100.0, high.astype(np.float32)),
        CANL=Analog(0, 100.0, low.astype(np.float32)),
        tx=wave(TALK),
        dead=wave([(1, 3e7)]),
    )


def ready(app: KeelApp) -> Callable[[], bool]:
    return lambda: is_open(app, "line") and "CANH" in shown(app)


async def test_channels_what_was_found_and_what_is_dead_are_seen_at_once(wires: Path) -> None:
    async with opened(wires) as (app, pilot):
        await pilot.press("7")
        await until(pilot, ready(app))
        text = shown(app)
        for words in ("what does the wire really do?", "5 channels", "CANH − CANL", "high", "low", "cut at"):
            assert words in text
        await pilot.press("0", *["down"] * 5)
        await until(pilot, lambda: "dead" in shown(app) and "no edges: it stays high all the time" in shown(app))


async def test_a_frame_is_stepped_to_and_its_fields_lie_over_its_bits(wires: Path) -> None:
    async with opened(wires) as (app, pilot):
        await pilot.press("7")
        await until(pilot, ready(app))
        await pilot.press("n")
        await until(pilot, lambda: is_open(app, "line") and "id 1A0" in shown(app))
        text = shown(app)
        assert "data 8001A4FF" in text and "crc" in text and "╰" in text and "1A0  80 01 A4 FF" in text
        assert app.state.frame == 0 and app.state.lens is not None
        assert app.state.lens.start < SPANS[0][0] < SPANS[0][1] < app.state.lens.end
        await pilot.press("n")
        await until(pilot, lambda: app.state.frame == 1)
        await pilot.press("N")
        await until(pilot, lambda: app.state.frame == 0)
        # Back to the frame in Frames, and to its waveform again.
        await pilot.press("enter")
        await until(pilot, lambda: is_open(app, "frames"))
        await pilot.press("W")
        await until(pilot, lambda: is_open(app, "line") and app.state.frame == 0)
        await pilot.press("backspace")
        await until(pilot, lambda: is_open(app, "frames"))


async def test_cursors_measure_time_volts_bits_and_edges(wires: Path) -> None:
    async with opened(wires) as (app, pilot):
        await pilot.press("7")
        await until(pilot, ready(app))
        await pilot.press("n", "c", "c")
        await until(pilot, lambda: "bits" in shown(app) and "edge" in shown(app) and is_open(app, "line"))
        part, in_hand = part_of(app, LineShown), app.state.of(LineChoices).in_hand
        values = [value for number, pair in part.values.items() if number in (1, 2) for value in pair]
        assert len(values) >= 2 and all(v is not None and 1.3 < v < 3.7 for v in values)
        assert in_hand is None or in_hand in part.values
        assert "kHz" in shown(app) and " V" in shown(app)
        first = app.state.of(LineChoices).cursors
        await pilot.press("right", "tab", "left")
        now = app.state.of(LineChoices).cursors
        assert now[1] > first[1] and now[0] < first[0]
        await pilot.press("c")
        await until(pilot, lambda: "none: c sets one" in shown(app))


@pytest.mark.parametrize("step", ["edge", "bit", "field", "fault", "shortest pulse"])
async def test_steps_go_from_one_to_the_next(wires: Path, step: str) -> None:
    async with opened(wires) as (app, pilot):
        await pilot.press("7")
        await until(pilot, ready(app))
        await pilot.press("c")
        await until(pilot, lambda: len(app.state.of(LineChoices).cursors) == 1)
        choices = app.state.of(LineChoices)
        start = SPANS[0][0] - 5_000
        app.quietly(app.state.having(LineChoices(choices.in_hand, (start,), 0, step)))
        places = []
        for _ in range(3):
            before = app.state.of(LineChoices).cursors[0]
            await pilot.press("n")
            await until(pilot, lambda before=before: app.state.of(LineChoices).cursors[0] != before)  # type: ignore[misc]
            places.append(app.state.of(LineChoices).cursors[0])
        assert start < places[0] < places[1] < places[2]
        bits = [(place - SPANS[0][0]) / 2000 for place in places]
        if step == "bit":
            assert bits == pytest.approx([0, 1, 2], abs=0.2)
        if step == "field":
            assert bits == pytest.approx([0, 1, 13], abs=0.2)
        if step == "fault":
            assert [app.state.frame] == [5 + 2 * len(FRAMES)]
        await pilot.press("N")
        await until(pilot, lambda: app.state.of(LineChoices).cursors[0] < places[2])
        assert app.state.of(LineChoices).cursors[0] == pytest.approx(places[1], abs=120)


async def test_the_last_of_its_kind_is_said_to_be_so(tmp_path: Path) -> None:
    folder = probe(tmp_path / "x.keel", tx=wave(TALK))
    async with opened(folder) as (app, pilot):
        await pilot.press("7")
        await until(pilot, lambda: is_open(app, "line") and "tx" in shown(app))
        app.quietly(app.state.having(LineChoices(step="fault")))
        await pilot.press("n")
        await until(pilot, lambda: "no fault later" in notes(app))


async def test_a_line_is_read_by_hand_with_its_effect_at_once_and_that_is_undone(tmp_path: Path) -> None:
    folder = probe(tmp_path / "x.keel", tx=wave(TALK))
    assert load_manifest(folder).lines[0].settings["delimiter"] == "lf"
    async with opened(folder) as (app, pilot):
        await pilot.press("7")
        await until(pilot, lambda: is_open(app, "line") and "serial at 9,600" in shown(app))
        await pilot.press("x")
        await until(pilot, lambda: "read tx as" in shown(app) and "so: 3 frames, none faulty" in shown(app))
        # The length of messages: the last row but two.
        await pilot.press(*["down"] * 14, "enter", *"2", "enter")
        await until(pilot, lambda: "so: 12 frames, none faulty" in shown(app))
        assert app.picture is not None and app.picture.snapshot.frames == 3
        await pilot.press("r")
        await until(pilot, lambda: "set by hand: length" in shown(app) and "read tx as" not in shown(app))
        assert app.picture.snapshot.frames == 12
        await pilot.press("backspace")
        await until(pilot, lambda: app.picture is not None and app.picture.snapshot.frames == 3)
        await pilot.press("greater_than_sign")
        await until(pilot, lambda: app.picture is not None and app.picture.snapshot.frames == 12)


async def test_what_is_typed_of_a_line_is_checked_and_obeyed(tmp_path: Path) -> None:
    folder = probe(tmp_path / "x.keel", tx=wave(TALK))
    async with opened(folder) as (app, pilot):
        await pilot.press("7")
        await until(pilot, lambda: is_open(app, "line") and "serial at 9,600" in shown(app))
        await pilot.press("x", "down", "enter", *"often", "enter")
        await until(pilot, lambda: "is no rate" in notes(app))
        # A bit time is as good as a rate.
        await pilot.press("enter", *"1us", "enter", "up", "right", "right", "right", "right")
        await until(pilot, lambda: bool(re.search(r"code +can ", shown(app))))
        await until(pilot, lambda: "you said 1,000,000; the bits measure 9,6" in shown(app))
        # What was changed is undone step by step, without a line being read.
        await pilot.press("backspace")
        await until(pilot, lambda: not re.search(r"code +can ", shown(app)))
        await pilot.press("escape")
        await until(pilot, lambda: "read tx as" not in shown(app))
        assert app.picture is not None and app.picture.snapshot.frames == 3


async def test_bits_and_bytes_are_seen_from_close_by(wires: Path) -> None:
    async with opened(wires) as (app, pilot):
        await pilot.press("7")
        await until(pilot, ready(app))
        await pilot.press("n")
        await until(pilot, lambda: app.state.frame == 0 and is_open(app, "line"))
        start = SPANS[0][0]
        # The first of its four bytes, 80: bits 19 on, with a stuff bit behind five alike.
        look(app, lens=Span(start + 17 * 2000, start + 40 * 2000))
        await until(pilot, lambda: "×" in shown(app))
        text = shown(app)
        assert "80" in text and "01" in text
        await pilot.press("X")
        await until(pilot, lambda: "128" in shown(app))


async def test_messages_are_listed_and_each_can_be_gone_to(wires: Path) -> None:
    async with opened(wires) as (app, pilot):
        await pilot.press("7")
        await until(pilot, ready(app))
        await pilot.press("t")
        await until(pilot, lambda: "silence before" in shown(app) and "7FF" in shown(app))
        await pilot.press("down", "down", "down")
        await until(pilot, lambda: app.state.frame == 2)
        await pilot.press("enter")
        await until(pilot, lambda: is_open(app, "frames") and app.state.frame == 2)
        await pilot.press("7", "t")
        await until(pilot, lambda: is_open(app, "line") and "silence before" not in shown(app))


async def test_short_pulses_and_runts_are_looked_for(wires: Path) -> None:
    async with opened(wires) as (app, pilot):
        await pilot.press("7")
        await until(pilot, ready(app))
        await pilot.press("f", *"pulse<2.2us", "enter")
        await until(pilot, lambda: "pulse<2.2us on" in shown(app) and "times" in shown(app))
        await pilot.press("down", "down")
        await until(pilot, lambda: app.state.lens is not None and app.state.of(LineChoices).row == 2)
        await pilot.press("escape")
        await until(pilot, lambda: "pulse<2.2us on" not in shown(app))
        await pilot.press("f", "ctrl+u", *"often", "enter")
        await until(pilot, lambda: "is none" in notes(app))


async def test_channels_are_hidden_shown_and_put_in_order(wires: Path) -> None:
    async with opened(wires) as (app, pilot):
        await pilot.press("7")
        await until(pilot, ready(app))
        first = app.state.of(LineChoices).in_hand
        await pilot.press("h")
        await until(pilot, lambda: "4 channels, 1 hidden" in shown(app))
        assert app.state.of(LineChoices).in_hand != first
        await pilot.press("backspace")
        await until(pilot, lambda: "5 channels" in shown(app))
        await pilot.press("J")
        await until(pilot, lambda: bool(app.state.of(LineChoices).order))


async def test_a_frame_brings_its_own_line_on_screen(wires: Path) -> None:
    async with opened(wires) as (app, pilot):
        await pilot.press("7")
        await until(pilot, ready(app))
        await pilot.press("2")
        await until(pilot, lambda: is_open(app, "frames"))
        assert app.picture is not None
        snapshot = app.picture.snapshot
        buses = snapshot.rows(0, snapshot.frames).bus.tolist()
        serial = next(n for n, bus in enumerate(buses) if snapshot.manifest.buses[bus].name == "tx")
        look(app, frame=serial)
        await pilot.press("W")
        await until(pilot, lambda: is_open(app, "line") and app.state.of(LineChoices).in_hand == 3)


async def test_the_shortest_pulse_sets_both_cursors(wires: Path) -> None:
    async with opened(wires) as (app, pilot):
        await pilot.press("7")
        await until(pilot, ready(app))
        await pilot.press("s", "end", "enter")
        await until(pilot, lambda: len(app.state.of(LineChoices).cursors) == 2)
        begin, end = app.state.of(LineChoices).cursors
        assert end - begin == pytest.approx(2_000, abs=200)
        await until(pilot, lambda: "1.0" in shown(app) and "bits" in shown(app))


async def test_a_dead_line_opens_and_every_view_stands(tmp_path: Path) -> None:
    folder = probe(tmp_path / "dead.keel", panel=wave([(1, 2e9)]))
    async with opened(folder) as (app, pilot):
        await until(pilot, lambda: "No frame was read from the waveforms" in shown(app))
        for key in "234567":
            await pilot.press(key)
            await until(pilot, lambda: app.picture is not None and bool(shown(app).strip()))
            assert "✕" not in shown(app)
        await until(pilot, lambda: "nobody talks" in shown(app))
        await pilot.press("m", "plus", "right", "n", "enter", "c", "c", "minus", "0", "W")
        assert "unforeseen" not in notes(app) and "did not foresee" not in notes(app)


async def test_it_fits_a_small_window_and_a_large_one(wires: Path) -> None:
    for size in (NARROW, (220, 60)):
        async with opened(wires, size=size) as (app, pilot):
            await pilot.press("7")
            await until(pilot, ready(app))
            await pilot.press("n")
            await until(pilot, lambda: is_open(app, "line"))
            lines = painted(app)
            assert len(lines) <= app.stage.size.height
            assert any("CANH" in line.text() for line in lines)


async def test_a_waveform_that_cannot_be_read_is_said_to_be_so(tmp_path: Path) -> None:
    folder = probe(tmp_path / "x.keel", tx=wave(TALK), dead=wave([(1, 1e8)]))
    (folder / "waveforms" / "000002.arrow").write_bytes(b"cut")
    async with opened(folder) as (app, pilot):
        await pilot.press("7")
        await until(pilot, lambda: "cannot be read" in shown(app))
        assert "serial at 9,600" in shown(app)


async def test_a_click_sets_a_cursor_and_the_wheel_zooms(wires: Path) -> None:
    async with opened(wires) as (app, pilot):
        await pilot.press("7")
        await until(pilot, ready(app))
        await pilot.click("#stage", offset=(60, 4))
        await until(pilot, lambda: len(app.state.of(LineChoices).cursors) == 1)
        before = app.here.lens
        app.view.wheel(app, -3)
        assert (app.here.lens.end - app.here.lens.start) < 0.6 * (before.end - before.start)


async def test_without_waveforms_it_says_how_to_get_one(tmp_path: Path) -> None:
    recorded(tmp_path / "plain.keel", batch([Row(START, 0x100, b"a")]))
    async with opened(tmp_path / "plain.keel") as (app, pilot):
        await pilot.press("7")
        await until(pilot, lambda: "No waveform is kept in this recording." in shown(app))
        await pilot.press("n", "x", "a", "c", "up", "s", "escape")
        await pilot.press("W")
        await until(pilot, lambda: "no waveform is kept" in notes(app))
