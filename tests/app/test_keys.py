"""Every key in every view, on recordings of every kind, in any order: nothing ends the app, and every view paints."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from random import Random

import pytest
from textual.events import Key
from textual.pilot import Pilot

from keel.app.dialogs.window import Window
from keel.app.main import KeelApp
from keel.app.views.every import DOORS
from keel.model.faults import Fault
from keel.model.fields import BitField
from keel.model.frames import Flag
from keel.model.identity import Form
from keel.signals.dictionary import Dictionary, Message
from keel.signals.signal import Signal
from tests.app.driving import plain_recording, until
from tests.making import START, Row, batch, new_recording, recorded

PRESSES = [20, pytest.param(90, marks=pytest.mark.soak)]
PAGES = (
    Signal("page", BitField(0, 8), role="selector"),
    Signal("level", BitField(8, 8), unit="mm", pages=((1, 1),), absent=((20, 30),)),
    Signal("mode", BitField(8, 2), pages=((2, 3),), texts={0: "off", 1: "on"}),
)


def empty(folder: Path) -> None:
    new_recording(folder)


def one_frame(folder: Path) -> None:
    recorded(folder, batch([Row(START, 0x100, b"\x01")]))


def nothing_but_faults(folder: Path) -> None:
    faulty = [
        Row(START + i * 1_000_000, 0, form=Form.NONE, flags=int(Flag.ERROR), faults=int(Fault.STUFF)) for i in range(20)
    ]
    recorded(folder, batch(faulty))


def no_payloads(folder: Path) -> None:
    rows = [Row(START + i * 1_000_000, 0x100 + i % 3, flags=int(Flag.REMOTE)) for i in range(30)]
    recorded(folder, batch(rows))


def a_clock_that_steps_back(folder: Path) -> None:
    rows = [Row(START + (i % 10) * 1_000_000, 0x100, bytes([i])) for i in range(40)]
    recorded(folder, batch(rows[:20]), batch(rows[20:]))


def with_a_dictionary(folder: Path) -> None:
    book = Dictionary((Message("a", Form.BASE, 0x100, "Paged", PAGES),))
    recorded(folder, batch([Row(START + i * 10_000_000, 0x100, bytes([i % 4, i])) for i in range(50)]), dictionary=book)


RECORDINGS: dict[str, Callable[[Path], object]] = {
    f.__name__: f
    for f in (empty, one_frame, nothing_but_faults, no_payloads, a_clock_that_steps_back, with_a_dictionary)
}
RECORDINGS["plain"] = plain_recording


def paints(app: KeelApp) -> bool:
    """Whether all that is on the screen can be painted, at its full width."""
    for sheet in (app.stage, app.head, app.tape, app.bar, app.keys):
        width, height = sheet.size
        if any(line.width != width for line in sheet.paint(width, height)):
            return False
    return True


async def press(app: KeelApp, pilot: Pilot[None], key: str) -> None:
    """Press a key; a window that opens is left again."""
    await pilot.press(key)
    for _ in range(3):
        if len(app.screen_stack) == 1 and not app.asking.typing:
            break
        await pilot.press("escape")


@pytest.mark.parametrize("presses", PRESSES)
@pytest.mark.parametrize("kind", RECORDINGS)
async def test_any_keys_in_any_order_end_nothing(
    kind: str, presses: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    RECORDINGS[kind](tmp_path / "r.keel")
    random = Random(f"keys on {kind}")
    app = KeelApp(tmp_path / "r.keel")
    async with app.run_test(size=(120, 34)) as pilot:
        await until(pilot, lambda: app.picture is not None)
        pressed = []
        for _ in range(presses):
            if random.random() < 0.15:
                key = random.choice([door.key for door in DOORS])
            else:
                action = random.choice([a for a in app.actions if not {"q", "D", "L"} & set(a.keys)])
                key = random.choice(action.keys)
            pressed.append(key)
            await press(app, pilot, key)
            assert app.is_running and paints(app), pressed
        # What the keys did to asks, lens and marks can be undone, all of it.
        for _ in range(presses):
            await pilot.press("backspace")
        assert app.is_running and paints(app)
        assert app.state.ask == "" and app.state.lens is None


@pytest.mark.parametrize("kind", RECORDINGS)
async def test_any_clicks_and_wheels_anywhere_end_nothing(kind: str, tmp_path: Path) -> None:
    RECORDINGS[kind](tmp_path / "r.keel")
    random = Random(f"clicks on {kind}")
    width, height = 110, 32
    app = KeelApp(tmp_path / "r.keel")
    async with app.run_test(size=(width, height)) as pilot:
        await until(pilot, lambda: app.picture is not None)
        for number in [door.key for door in DOORS]:
            await pilot.press(number)
            for _ in range(6):
                # Not the key line: what is clicked there is a key, "quit" among them.
                place = (random.randrange(width), random.randrange(height - 1))
                if random.random() < 0.2:
                    app.view.wheel(app, 3)
                elif random.random() < 0.2:
                    await pilot.mouse_down(offset=place)
                    await pilot.hover(offset=(random.randrange(width), place[1]))
                    await pilot.mouse_up(offset=(random.randrange(width), place[1]))
                else:
                    await pilot.click(offset=place, times=random.choice((1, 1, 2)))
                if app.asking.typing:
                    await pilot.press("escape")
                assert app.is_running and paints(app), (number, place)


async def test_keys_that_arrive_together_are_all_taken(tmp_path: Path) -> None:
    """As on a slow line, where several keys come at once: each goes to what has the keys by then."""
    plain_recording(tmp_path / "r.keel")
    app = KeelApp(tmp_path / "r.keel")
    async with app.run_test(size=(120, 34)) as pilot:
        await until(pilot, lambda: app.picture is not None and app.views)
        for key in ("slash", *"fault", "enter", "2"):
            app.post_message(Key(key, key if len(key) == 1 else None))
        await until(pilot, lambda: app.state.ask == "fault" and app.state.view == "frames")
        for key in ("colon", *"9", "enter"):
            app.post_message(Key(key, key if len(key) == 1 else None))
        await until(pilot, lambda: app.state.frame == 8)


async def test_a_key_does_not_overtake_those_that_wait_for_a_window(tmp_path: Path) -> None:
    plain_recording(tmp_path / "r.keel")
    app, answers = KeelApp(tmp_path / "r.keel"), list[str]()
    async with app.run_test(size=(120, 34)) as pilot:
        await until(pilot, lambda: app.picture is not None and app.views)
        # The first key comes before the window can take it, the next ones just as it can.
        app.windows.text("How much?", "a number", "", answers.append, empty=True)
        window = app.screen
        assert isinstance(window, Window) and not window.is_ready
        ready, next_ones = window.make_ready, [Key("enter", None), Key("3", "3")]

        def just_then() -> None:
            ready()
            for key in next_ones:
                app.post_message(key)

        window.make_ready = just_then  # type: ignore[method-assign]
        app.post_message(Key("1", "1"))
        await until(pilot, lambda: answers and app.state.view == "health")
        assert answers == ["1"]
