"""Drives the real app through its pilot, on recordings of known content."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any, TypeVar

from textual.pilot import Pilot

from keel.app.desk import edits
from keel.app.desk.picture import Picture
from keel.app.main import KeelApp
from keel.app.paint.canvas import Line
from keel.app.views.compare.choices import CompareChoices, Task
from keel.app.views.compare.wants import Compared
from keel.app.views.frames.view import Frames
from keel.app.views.hunt.choices import HuntChoices
from keel.app.views.hunt.search import Result, Sought
from keel.app.views.hunt.view import Hunt
from keel.app.views.hunt.wants import Hunted
from keel.compare.differences import Comparison
from keel.hunt.candidates import Candidate
from keel.model.faults import Fault
from keel.model.frames import Flag
from keel.signals.loading import load_dictionary
from tests.making import START, Row, batch, recorded

P = TypeVar("P")
WIDE, NARROW, LARGE = (160, 40), (100, 30), (220, 60)


def painted(app: KeelApp, width: int | None = None, height: int | None = None) -> list[Line]:
    """The lines of the open view, in the room it has or in another."""
    return app.stage.paint(width or app.stage.size.width, height or app.stage.size.height)


def shown(app: KeelApp) -> str:
    """What the open view has on the screen."""
    return "\n".join(line.text() for line in painted(app))


def look(app: KeelApp, **to: Any) -> None:
    """Look at something else, as a person's key would."""
    app.change("look", replace(app.state, **to))


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
    """Whether a view is open and the picture is the one that was made for it."""
    if app.picture is None or app.state.view != view or app.state.folder is None:
        return False
    return app.picture.wish == app._wanted(app.state.folder)


def picture_of(app: KeelApp) -> Picture:
    """What the app shows now."""
    assert app.picture is not None
    return app.picture


def part_of(app: KeelApp, kind: type[P]) -> P:
    """A view's part of what the app shows now."""
    part = picture_of(app).part(kind)
    assert part is not None
    return part


def pick_of(app: KeelApp) -> int:
    """The identifier in hand in the open view."""
    pick = app.view.pick(app.here)
    assert pick is not None
    return pick


def use_dictionary(app: KeelApp, path: Path) -> None:
    """Use a dictionary, as the window of dictionaries has it done."""
    plan = edits.use_dictionary(picture_of(app).wish.folder, load_dictionary(path))
    app.edit(f"dictionary {path.stem}", plan)


def compare_with(app: KeelApp, other: Path) -> None:
    """Compare with another recording, as its choice would."""
    app.go("compare")
    look_at = CompareChoices(Task(other, app.state.lens), app.state.folder)
    app.change("compare", app.state.having(look_at))


def frame_in_hand(app: KeelApp) -> int | None:
    """The number of the frame in hand."""
    view = app.views["frames"]
    assert isinstance(view, Frames)
    return view.number(app.here)


def cursor_of(app: KeelApp) -> int:
    """The rank of the frame in hand."""
    view = app.views["frames"]
    assert isinstance(view, Frames)
    return view.layout(app.here).cursor


def sought(app: KeelApp) -> Sought:
    """What Hunt looks for."""
    return app.state.of(HuntChoices).sought


def result_of(app: KeelApp) -> Result | None:
    """What Hunt found, once the search has ended."""
    hunted = picture_of(app).part(Hunted)
    return hunted.result if hunted is not None and not hunted.searching else None


def candidate_of(app: KeelApp) -> Candidate | None:
    """The candidate in hand."""
    view = app.views["hunt"]
    assert isinstance(view, Hunt)
    row = view.row(app.here)
    return row.candidate if row is not None and result_of(app) is not None else None


def compared(app: KeelApp) -> Comparison | None:
    """What Compare found, once it has ended."""
    part = picture_of(app).part(Compared)
    return part.found if part is not None and not part.errand.running else None


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

    def is_there() -> bool:
        picture = app.picture
        return picture is not None and bool(picture.census or picture.snapshot.waveforms) and bool(shown(app))

    async with app.run_test(size=size) as pilot:
        await until(pilot, is_there)
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
