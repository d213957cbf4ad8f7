"""The bench: every control is worked by keys and by the mouse, and what a damaged status says is not believed."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict
from pathlib import Path

import pytest
from textual.pilot import Pilot

from keel.app.frame.stage import Stage
from keel.app.main import KeelApp
from keel.app.views.bench.choices import BenchChoices
from keel.app.views.bench.panel import declared
from keel.app.views.bench.panel import value_of as value_shown
from keel.app.views.bench.sketch import sketch
from keel.app.views.bench.view import CHOICES
from keel.bench.controls import CONTROLS, Control
from keel.sources.serial_port import SerialSource
from keel.store.control import ControlReader, Status, write_status
from keel.store.writer import Writer
from tests.app.driving import is_open, opened, painted, picture_of, plain_recording, shown, until
from tests.making import START, Row, batch

DEFAULTS = {control.name: control.default for control in CONTROLS}
PANEL = [asdict(control) for control in CONTROLS]


@pytest.fixture
def sailing(tmp_path: Path) -> Iterator[Path]:
    """A recording that is being written, from the bench as far as anybody can see."""
    folder = plain_recording(tmp_path / "sailing.keel")
    writer = Writer(folder)
    writer.append(batch([Row(START + 4 * 10**9, 0x0A4, b"\x01\x02")]))
    write_status(folder, Status(1, 1.0, 10, controls=DEFAULTS, panel=PANEL))
    yield folder
    writer.close()


async def aboard(app: KeelApp, pilot: Pilot[None]) -> None:
    """The Bench view, its controls shown."""
    await pilot.press("9")
    await until(pilot, lambda: "aboard the ferry Tern" in shown(app))


def value_of(app: KeelApp, control: Control) -> str:
    """What a control shows."""
    return value_shown(app.here, control)


def row_of(app: KeelApp, title: str) -> str:
    return next(row for row in shown(app).splitlines() if title in row)


async def test_every_control_stands_there_with_its_choices(sailing: Path) -> None:
    async with opened(sailing, (160, 50)) as (app, pilot):
        await aboard(app, pilot)
        for control in CONTROLS:
            row = row_of(app, control.title)
            for choice in control.choices:
                assert (f" {choice} " in row) is not (control.momentary and choice == control.default), row
            assert control.words[:20] in row


def places(control: Control, presses: str) -> list[str]:
    """What is asked of the bench by some presses of → and ←, worked out by hand."""
    value, asked = control.default, []
    for press in presses:
        by = 1 if press == ">" else -1
        if control.momentary:
            asked.append(next(c for c in control.choices if c != control.default))
            continue
        if control.choices:
            at = control.choices.index(value) + by
            if not 0 <= at < len(control.choices):
                continue
            value = control.choices[at]
        elif value == "auto":
            value = f"{(control.low + control.high) / 2:g}"
        elif float(value) + by * control.step < control.low and control.auto:
            value = "auto"
        else:
            value = f"{min(max(float(value) + by * control.step, control.low), control.high):g}"
        asked.append(value)
    return asked


ONE_OF_EACH = {(one.momentary, len(one.choices), one.auto): one for one in CONTROLS}
"""A control of each kind."""


@pytest.mark.parametrize("control", ONE_OF_EACH.values(), ids=lambda control: control.name)
async def test_arrows_work_a_control_from_end_to_end(
    sailing: Path, control: Control, monkeypatch: pytest.MonkeyPatch
) -> None:
    # Nobody does what is asked here: what is shown must not be taken back while keys are pressed.
    monkeypatch.setattr("keel.app.views.bench.panel.PATIENCE_S", 1000.0)
    presses = ">" * 3 + "<" * 9 + ">" * 12
    reader = ControlReader(sailing)
    async with opened(sailing, (160, 50)) as (app, pilot):
        await aboard(app, pilot)
        await pilot.press(*["down"] * CONTROLS.index(control))
        await pilot.press(*["right" if press == ">" else "left" for press in presses])
        asked: list[tuple[str, str]] = []
        wanted = places(control, presses)

        def all_there() -> bool:
            asked.extend(reader.read_new())
            return len(asked) >= len(wanted)

        await until(pilot, all_there)
        assert asked == [(control.name, value) for value in wanted]


async def test_enter_goes_round(sailing: Path) -> None:
    async with opened(sailing, (160, 50)) as (app, pilot):
        await aboard(app, pilot)
        seen = []
        for _ in range(4):
            await pilot.press("enter")
            seen.append(value_of(app, CONTROLS[0]))
        assert seen == ["down", "up", "stop", "down"]


async def test_a_click_takes_what_it_hits(sailing: Path) -> None:
    async with opened(sailing, (160, 50)) as (app, pilot):
        await aboard(app, pilot)
        row = next(i for i, line in enumerate(shown(app).splitlines()) if "bow thruster" in line)
        at = row_of(app, "bow thruster").index("starboard")
        assert at > CHOICES
        await pilot.click(Stage, offset=(at + 1, row))
        assert value_of(app, CONTROLS[1]) == "starboard"
        row = next(i for i, line in enumerate(shown(app).splitlines()) if "cabin temperature" in line)
        await pilot.click(Stage, offset=(row_of(app, "cabin temperature").index("+"), row))
        assert value_of(app, next(c for c in CONTROLS if c.name == "cabin")) == "22"


async def test_what_is_asked_shows_at_once_until_the_bench_says_it_itself(sailing: Path) -> None:
    async with opened(sailing, (160, 50)) as (app, pilot):
        await aboard(app, pilot)
        await pilot.press("right")
        assert value_of(app, CONTROLS[0]) == "down" and app.state.of(BenchChoices).asked[0].value == "down"
        write_status(sailing, Status(1, 2.0, 10, controls={**DEFAULTS, "ramp": "down"}, panel=PANEL))
        await until(pilot, lambda: "ramp" in str(picture_of(app).status))
        assert value_of(app, CONTROLS[0]) == "down"


@pytest.mark.parametrize("odd", ["sideways", "nan", "1e9", "", "-", "[red]", 7, None, ["on"]])
async def test_settings_that_cannot_be_are_not_believed(sailing: Path, odd: object) -> None:
    write_status(sailing, Status(1, 1.0, 10, controls=dict.fromkeys(DEFAULTS, odd), panel=PANEL))
    async with opened(sailing, (160, 50)) as (app, pilot):
        await pilot.press("9")
        await until(pilot, lambda: is_open(app, "bench"))
        for width in (60, 100, 160):
            assert all(line.width == width for line in painted(app, width, 40))
        await pilot.press("right", "down", "left", "enter")
        assert app.is_running


@pytest.mark.parametrize(
    "settings, there, gone",
    [
        ({}, ["T E R N", "▫"], ["✳", "▪", "down", "up", "◀", "▶", "shore", "panel"]),
        ({"lights": "on"}, ["✳", "▪"], ["▫"]),
        ({"ramp": "down"}, ["╲ down"], ["up"]),
        ({"ramp": "up"}, ["╱ up"], ["down"]),
        ({"ramp": "down", "fault-panel": "on"}, ["✕ panel"], ["down"]),
        ({"thruster": "port"}, ["◀◀"], ["▶"]),
        ({"thruster": "starboard"}, ["▶▶"], ["◀"]),
        ({"shore": "plugged"}, ["shore"], []),
    ],
)
async def test_the_sketch_shows_what_is_set(
    tmp_path: Path, settings: dict[str, str], there: list[str], gone: list[str]
) -> None:
    async with opened(plain_recording(tmp_path / "r.keel")) as (app, _):
        text = "\n".join(line.text() for line in sketch(app.palette, settings))
        assert all(word in text for word in there) and not any(word in text for word in gone)


LAMP = {"name": "lamp", "title": "a lamp", "default": "on"}


@pytest.mark.parametrize(
    "odd",
    [
        1, None, [], {}, {"name": 1}, {"name": "x", "title": "y"}, {**LAMP, "choices": "no"},
        {**LAMP, "choices": ["a"]}, {**LAMP, "low": 2, "high": 1},
    ],
)  # fmt: skip
def test_what_is_no_control_is_not_shown(odd: object) -> None:
    assert declared([odd]) == ()


def test_controls_of_other_sources_are_shown_as_they_are_declared() -> None:
    said = {"name": "dtr", "title": "data [b]terminal\x1b[31m", "default": "off", "choices": ["off", "on"], "later": 1}
    (control,) = declared([said])
    assert (control.name, control.choices) == ("dtr", ("off", "on")) and "\x1b" not in control.title


async def test_controls_of_a_serial_port_are_worked_like_those_of_the_bench(tmp_path: Path) -> None:
    folder = plain_recording(tmp_path / "port.keel")
    writer = Writer(folder)
    panel = [asdict(control) for control in SerialSource.controls]
    write_status(folder, Status(1, 1.0, 10, controls={"dtr": "off", "rts": "off"}, panel=panel))
    reader = ControlReader(folder)
    async with opened(folder, (160, 50)) as (app, pilot):
        await pilot.press("9")
        await until(pilot, lambda: "controls of what is recorded" in shown(app))
        assert "data terminal ready" in shown(app) and "Tern" not in shown(app)
        await pilot.press("down", "right")
        asked: list[tuple[str, str]] = []

        def is_asked() -> bool:
            asked.extend(reader.read_new())
            return bool(asked)

        await until(pilot, is_asked)
        assert asked == [("rts", "on")]
    writer.close()
