"""The shelf: the recordings there are, newest first; what cannot be opened says why."""

from __future__ import annotations

from pathlib import Path

import pytest
from textual.pilot import Pilot

from keel.app.dialogs.library import LibraryList
from keel.app.main import KeelApp
from keel.store.manifest import edit_manifest
from tests.app.driving import plain_recording, until
from tests.making import START


def listed(app: KeelApp) -> list[str]:
    sheet = app.screen.query_one(LibraryList)
    return [line.text().rstrip() for line in sheet.paint(sheet.size.width, sheet.size.height)]


async def looked(app: KeelApp, pilot: Pilot[None]) -> None:
    await until(pilot, lambda: app.screen.query(LibraryList) and app.screen.query_one(LibraryList).found is not None)


@pytest.fixture
def three(shelf_of_its_own: Path) -> Path:
    """Two recordings and one that cannot be opened."""
    shelf_of_its_own.mkdir()
    for age, name in enumerate(("newest", "older")):
        plain_recording(shelf_of_its_own / f"{name}.keel")
        with edit_manifest(shelf_of_its_own / f"{name}.keel") as manifest:
            manifest.created = START - age * 10**9
            manifest.source = f"from [bold]{name}\x1b"
    (shelf_of_its_own / "broken.keel").mkdir()
    (shelf_of_its_own / "broken.keel" / "recording.json").write_text("{")
    return shelf_of_its_own


async def test_recordings_are_listed_newest_first_with_what_they_hold(three: Path) -> None:
    app = KeelApp(None)
    async with app.run_test(size=(160, 30)) as pilot:
        await looked(app, pilot)
        text = listed(app)
        rows = [next(i for i, row in enumerate(text) if name in row) for name in ("newest", "older", "broken")]
        assert rows == sorted(rows)
        assert "00:00:02.9" in text[rows[0]] and "435" in text[rows[0]]
        # Text from outside is shown as it is, and steers nothing.
        assert "from [bold]newest·" in text[rows[0]]
        assert "✕" in text[rows[2]] and "cannot be read" in text[rows[2]]


async def test_enter_opens_what_is_in_hand_but_not_what_cannot_be_opened(three: Path) -> None:
    app = KeelApp(None)
    async with app.run_test(size=(160, 30)) as pilot:
        await looked(app, pilot)
        await pilot.press("down", "down", "down", "enter")
        assert app.screen.query(LibraryList), "a broken one stays closed"
        await pilot.press("up", "enter")
        await until(pilot, lambda: app.picture is not None)
        assert app.state.folder == three / "older.keel"


async def test_a_double_click_opens(three: Path) -> None:
    app = KeelApp(None)
    async with app.run_test(size=(160, 30)) as pilot:
        await looked(app, pilot)
        row = next(i for i, text in enumerate(listed(app)) if "older" in text)
        await pilot.click(LibraryList, offset=(10, row))
        assert app.screen.query_one(LibraryList).chosen == three / "older.keel"
        await pilot.click(LibraryList, offset=(10, row), times=2)
        await until(pilot, lambda: app.picture is not None)
        assert app.state.folder == three / "older.keel"


async def test_leaving_the_shelf_leaves_the_app(three: Path) -> None:
    app = KeelApp(None)
    async with app.run_test() as pilot:
        await looked(app, pilot)
        await pilot.press("q")
    assert app.return_code == 0 and app.picture is None


async def test_an_empty_shelf_says_how_to_begin(shelf_of_its_own: Path) -> None:
    app = KeelApp(None)
    async with app.run_test(size=(120, 20)) as pilot:
        await looked(app, pilot)
        text = "\n".join(listed(app))
        assert "There is no recording yet." in text and "keel demo" in text and str(shelf_of_its_own) in text
        await pilot.press("down", "enter", "pagedown")
        assert app.is_running


@pytest.mark.parametrize("size", [(160, 40), (60, 12), (30, 6), (10, 3)])
async def test_the_shelf_paints_at_every_size(three: Path, size: tuple[int, int]) -> None:
    app = KeelApp(None)
    async with app.run_test(size=size) as pilot:
        await looked(app, pilot)
        sheet = app.screen.query_one(LibraryList)
        for height in (1, 4, 9, size[1]):
            assert all(line.width == size[0] for line in sheet.paint(size[0], height))


async def test_the_cursor_stays_in_sight_on_a_long_shelf(shelf_of_its_own: Path) -> None:
    shelf_of_its_own.mkdir()
    for i in range(30):
        plain_recording(shelf_of_its_own / f"r{i:02}.keel")
    app = KeelApp(None)
    async with app.run_test(size=(100, 12)) as pilot:
        await looked(app, pilot)
        for key, times in (("down", 12), ("pagedown", 3), ("up", 5), ("pageup", 1)):
            await pilot.press(*[key] * times)
            assert sum("▌" in row for row in listed(app)) == 1
