"""Drives the real app through its pilot, on recordings of known content."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

from textual.pilot import Pilot

from keel.app.desk.picture import Picture
from keel.app.main import KeelApp
from keel.app.paint.canvas import Sheet
from keel.model.faults import Fault
from keel.model.frames import Flag
from tests.making import START, Row, batch, recorded

WIDE, NARROW, LARGE = (160, 40), (100, 30), (220, 60)


def shown(app: KeelApp, name: str | None = None) -> str:
    """What a view (the open one, if none is named) has on the screen."""
    view: Sheet = app.views[name or app.state.view]
    return "\n".join(line.text() for line in view.paint(view.size.width, view.size.height))


def on_screen(app: KeelApp, row: int) -> str:
    """What the terminal has in a row by now, whoever painted it."""
    return "".join(segment.text for segment in app.screen._compositor.render_strips()[row])


def said(app: KeelApp) -> str:
    """The result line."""
    return app.asking.result._text


def notes(app: KeelApp) -> str:
    """What the app has said in passing."""
    return "\n".join(note.message for note in app._notifications)


def has_said(app: KeelApp, sentence: str) -> bool:
    """Whether the app has said so in passing."""
    return sentence in notes(app)


def is_open(app: KeelApp, view: str) -> bool:
    """Whether the picture is one for the view."""
    return app.picture is not None and app.picture.wish.view == view


def picture_of(app: KeelApp) -> Picture:
    """What the app shows now."""
    assert app.picture is not None
    return app.picture


async def until(pilot: Pilot[None], check: Callable[[], Any]) -> None:
    """Wait until something is so; how long a machine takes does not matter."""
    for _ in range(600):
        await pilot.pause(0.05)
        if check():
            return
    raise AssertionError(f"it never came to be; on {pilot.app.screen}")


@asynccontextmanager
async def opened(folder: Path, size: tuple[int, int] = WIDE) -> AsyncIterator[tuple[KeelApp, Pilot[None]]]:
    """The app on a recording, with its first picture."""
    app = KeelApp(folder)
    async with app.run_test(size=size) as pilot:
        await until(pilot, lambda: app.picture is not None and app.picture.census and shown(app))
        yield app, pilot


def plain_recording(folder: Path) -> Path:
    """Three identifiers over three seconds; one stops, one carries a fault."""
    found = []
    for i in range(300):
        t = START + i * 10_000_000
        found.append(Row(t, 0x0A4, bytes([i & 0xFF, 7])))
        if i % 2 == 0 and i < 150:
            found.append(Row(t + 1_000_000, 0x1A0, b"steady", bus=1))
        if i % 5 == 0:
            faults, flags = (int(Fault.CRC), int(Flag.ERROR)) if i == 100 else (0, 0)
            found.append(Row(t + 2_000_000, 0x220, bytes([i // 50]), faults=faults, flags=flags))
    recorded(folder, batch(found))
    return folder
