"""The window of dictionaries: files are used, put first, given to one bus and dropped; wrong ones are told."""

from __future__ import annotations

from pathlib import Path

import pytest
from textual.pilot import Pilot

from keel.app.dialogs.dictionaries import Dictionaries, files_here
from keel.app.main import KeelApp
from keel.store.manifest import load_manifest
from tests.app.driving import notes, opened, picture_of, until, use_dictionary

ONE = 'keel = 1\n[[message]]\nname = "One"\nbus = "a"\nid = "0A4"\n'
TWO = ONE.replace('"One"', '"Two"')


@pytest.fixture
def here(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A folder with two dictionaries, one that cannot be read, and files that are something else."""
    folder = tmp_path / "here"
    folder.mkdir()
    (folder / "one.toml").write_text(ONE)
    (folder / "two.toml").write_text(TWO)
    (folder / "wrong.dbc").write_bytes(b"\x00\xff no database")
    (folder / "other.toml").write_text("[tool]\nname = 1\n")
    (folder / "notes.txt").write_text(ONE)
    (folder / "folder.toml").mkdir()
    monkeypatch.chdir(folder)
    return folder


async def window(app: KeelApp, pilot: Pilot[None]) -> None:
    await until(pilot, lambda: len(app.screen_stack) == 1 or isinstance(app.screen, Dictionaries))
    if len(app.screen_stack) == 1:
        await pilot.press("D")
    await until(pilot, lambda: isinstance(app.screen, Dictionaries) and app.screen.focused is not None)


def used(folder: Path) -> list[tuple[str, str]]:
    return [(entry.name, entry.bus) for entry in load_manifest(folder).dictionaries]


def name_of_first(app: KeelApp) -> str:
    picture = picture_of(app)
    return picture.name(min(picture.census))


def test_only_dictionaries_are_offered(here: Path) -> None:
    assert [path.name for path in files_here(here)] == ["one.toml", "two.toml", "wrong.dbc"]


async def test_a_file_is_used_and_dropped_again(plain: Path, here: Path) -> None:
    async with opened(plain) as (app, pilot):
        await window(app, pilot)
        await pilot.press("enter")
        await until(pilot, lambda: used(plain) == [("one", "")] and name_of_first(app) == "One")
        assert "one.toml: 1 messages" in notes(app)
        await window(app, pilot)
        await pilot.press("enter")
        await until(pilot, lambda: used(plain) == [] and name_of_first(app) == "—")


async def test_the_first_has_precedence_and_another_is_put_first(plain: Path, here: Path) -> None:
    async with opened(plain) as (app, pilot):
        for name in ("one.toml", "two.toml"):
            use_dictionary(app, here / name)
            await until(pilot, lambda name=name: (name[:3], "") in used(plain))  # type: ignore[misc]
        await until(pilot, lambda: name_of_first(app) == "One")
        await window(app, pilot)
        await pilot.press("down", "f")
        await until(pilot, lambda: used(plain) == [("two", ""), ("one", "")])
        await until(pilot, lambda: name_of_first(app) == "Two")


async def test_a_dictionary_is_given_to_one_bus(plain: Path, here: Path) -> None:
    async with opened(plain) as (app, pilot):
        use_dictionary(app, here / "one.toml")
        await until(pilot, lambda: used(plain) == [("one", "")])
        seen = []
        for _ in range(3):
            await window(app, pilot)
            before = used(plain)
            await pilot.press("b")
            await until(pilot, lambda before=before: used(plain) != before)  # type: ignore[misc]
            seen.append(used(plain)[0][1])
            await until(pilot, lambda: isinstance(app.screen, Dictionaries))
        assert seen == ["a", "b", ""]


async def test_what_cannot_be_read_is_told_and_not_used(plain: Path, here: Path) -> None:
    async with opened(plain) as (app, pilot):
        await window(app, pilot)
        await pilot.press("down", "down", "enter")
        await until(pilot, lambda: "wrong.dbc" in notes(app))
        assert used(plain) == []
        await window(app, pilot)
        await pilot.press("tab", *"nowhere.toml", "enter")
        await until(pilot, lambda: "nowhere.toml" in notes(app))
        assert used(plain) == [] and app.is_running


async def test_using_is_taken_back(plain: Path, here: Path) -> None:
    async with opened(plain) as (app, pilot):
        use_dictionary(app, here / "one.toml")
        await until(pilot, lambda: used(plain) == [("one", "")])
        await pilot.press("backspace")
        await until(pilot, lambda: used(plain) == [])
        await pilot.press("greater_than_sign")
        await until(pilot, lambda: used(plain) == [("one", "")])


async def test_escape_leaves_all_as_it_was(plain: Path, here: Path) -> None:
    async with opened(plain) as (app, pilot):
        await window(app, pilot)
        await pilot.press("down", "escape")
        await until(pilot, lambda: len(app.screen_stack) == 1)
        assert used(plain) == []
