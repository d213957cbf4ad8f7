"""The shelf: the recordings there are, newest first; what cannot be opened says why."""

from __future__ import annotations

from pathlib import Path

import pytest
from textual.pilot import Pilot

from keel.app.dialogs.ask_text import AskText
from keel.app.dialogs.choose import Choose
from keel.app.dialogs.import_preview import ImportPreview
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


async def choosing(app: KeelApp, pilot: Pilot[None]) -> None:
    await until(pilot, lambda: isinstance(app.screen, Choose) and app.screen.is_ready)


async def shows_two(app: KeelApp, pilot: Pilot[None]) -> None:
    await until(pilot, lambda: app.picture is not None and app.picture.snapshot.frames == 2)


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


async def test_each_recording_is_shown_at_a_glance(
    three: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "cwd").mkdir()
    (tmp_path / "cwd" / "morning.log").write_text("(1700000000.000100) can0 1A0#1122\n")
    (tmp_path / "cwd" / "notes.txt").write_text("nothing of the kind")
    (tmp_path / "cwd" / "own.toml").write_text("keel = 1\n")
    monkeypatch.chdir(tmp_path / "cwd")
    app = KeelApp(None)
    async with app.run_test(size=(160, 30)) as pilot:
        await looked(app, pilot)
        await until(pilot, lambda: "✕ 1" in "\n".join(listed(app)))
        row = next(row for row in listed(app) if "newest" in row)
        # Two buses, one fault, and where it was: a third of the way.
        assert " a b " in row and "│" in row and "▆" in row
        text = "\n".join(listed(app))
        assert "morning.log  bracketed CAN text log" in text and "own.toml" in text and "notes.txt" not in text


async def test_a_capture_is_imported_from_the_list_once(
    three: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    (tmp_path / "morning.log").write_text("(1700000000.000100) can0 1A0#1122\n(1700000000.1) can0 1A0#1123\n")
    for _ in range(2):
        app = KeelApp(None)
        async with app.run_test(size=(160, 30)) as pilot:
            await looked(app, pilot)
            await pilot.press("i")
            await choosing(app, pilot)
            await pilot.press(*"morning", "enter")
            await shows_two(app, pilot)
    assert len(list(three.glob("morning-*.keel"))) == 1


async def test_a_table_is_imported_as_the_person_says_it_lies(
    three: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    (tmp_path / "table.csv").write_text("ms;line;ident;b0;b1\n0,5;1;1A0;00;11\n0,7;2;220;22;33\n")
    app = KeelApp(None)
    async with app.run_test(size=(160, 30)) as pilot:
        await looked(app, pilot)
        await pilot.press("i")
        await choosing(app, pilot)
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, ImportPreview))
        assert isinstance(app.screen, ImportPreview)
        assert "elapsed s" in "\n".join(line.text() for line in app.screen.preview.paint(160, 30))
        await pilot.press("escape")
        await looked(app, pilot)
        await pilot.press("i")
        await choosing(app, pilot)
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, ImportPreview))
        await pilot.press("enter")
        await shows_two(app, pilot)


async def test_a_capture_that_cannot_be_read_leads_back_to_the_list(three: Path, tmp_path: Path) -> None:
    app = KeelApp(None)
    async with app.run_test(size=(160, 30)) as pilot:
        await looked(app, pilot)
        await pilot.press("i")
        await choosing(app, pilot)
        await pilot.press("end", "enter")
        await until(pilot, lambda: isinstance(app.screen, AskText) and app.screen.is_ready)
        await pilot.press(*"nowhere.log", "enter")
        await until(pilot, lambda: any("nowhere.log" in note.message for note in app._notifications))
        await looked(app, pilot)
        await pilot.press("enter")
        await until(pilot, lambda: app.picture is not None)
