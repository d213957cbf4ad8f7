"""The desk cannot die: whatever goes wrong behind the views is told in a sentence, and the app goes on."""

from __future__ import annotations

import errno
import shutil
from pathlib import Path
from typing import Any

import pytest

from keel.app.desk.desk import Desk
from keel.app.desk.making import Wish
from keel.app.desk.picture import Picture, Trouble
from keel.app.shared import trouble
from keel.app.views.watch.wants import WatchWant
from keel.model.bus import Bus
from keel.store import manifest as manifest_module
from keel.store.manifest import load_manifest
from keel.store.writer import Writer
from tests.app.driving import is_open, notes, on_screen, opened, picture_of, plain_recording, shown, until
from tests.making import START, Row, batch


@pytest.fixture(autouse=True)
def log(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A log of its own."""
    path = tmp_path / "log" / "keel.log"
    monkeypatch.setattr(trouble, "log_file", lambda: path)
    return path


async def test_a_full_disk_while_a_mark_is_set_is_told_and_the_desk_goes_on(
    plain: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    real = manifest_module.write_atomically

    def full(*_: Any, **__: Any) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    async with opened(plain) as (app, pilot):
        monkeypatch.setattr(manifest_module, "write_atomically", full)
        await pilot.press("m")
        await until(pilot, lambda: "cannot be changed (No space left on device)" in notes(app))
        assert load_manifest(plain).marks == []
        monkeypatch.setattr(manifest_module, "write_atomically", real)
        await pilot.press("m")
        await until(pilot, lambda: [m.number for m in load_manifest(plain).marks] == [1])
        # The mark that never came about is no step back.
        await pilot.press("backspace")
        await until(pilot, lambda: load_manifest(plain).marks == [])
        await pilot.press("backspace")
        await until(pilot, lambda: "there is nothing to undo" in notes(app))


async def test_a_folder_that_is_gone_is_said_and_every_key_is_safe(plain: Path, tmp_path: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("m")
        await until(pilot, lambda: load_manifest(plain).marks)
        plain.rename(tmp_path / "elsewhere.keel")
        await until(pilot, lambda: "✕ gone" in on_screen(app, 0))
        await pilot.press("m")
        await until(pilot, lambda: "cannot be changed" in notes(app))
        # What was read before stays, in every view, and every key of every view is safe.
        for name in ("watch", "frames", "health", "values"):
            app.go(name)
            await until(pilot, lambda name=name: is_open(app, name))  # type: ignore[misc]
            for action in app.actions:
                if not {"q", "L", "e", "D"} & set(action.keys):
                    await pilot.press(action.keys[0])
                    while len(app.screen_stack) > 1 or app.asking.typing:
                        await pilot.press("escape")
                        await pilot.pause(0.02)
        assert app.is_running
        app.go("watch")
        (tmp_path / "elsewhere.keel").rename(plain)
        await until(pilot, lambda: "✕ gone" not in on_screen(app, 0))
        await pilot.press("0", "m")
        await until(pilot, lambda: len(load_manifest(plain).marks) == 2)


async def test_a_deleted_folder_and_a_mark_end_nothing(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        shutil.rmtree(plain)
        await pilot.press("m")
        await until(pilot, lambda: "✕ gone" in on_screen(app, 0) and str(plain) in notes(app))
        assert app.is_running and "0A4" in shown(app)


async def test_a_fault_in_a_picture_is_told_logged_and_passes(
    plain: Path, log: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    async with opened(plain) as (app, pilot):
        make = WatchWant.make
        monkeypatch.setattr(WatchWant, "make", lambda *_: 1 // 0)
        await pilot.press("plus")
        await until(pilot, lambda: "did not foresee (ZeroDivisionError" in notes(app) and str(log) in notes(app))
        assert "ZeroDivisionError" in log.read_text() and "Traceback" in log.read_text()
        monkeypatch.setattr(WatchWant, "make", make)
        await pilot.press("0")
        await until(pilot, lambda: picture_of(app).wish.lens is None and is_open(app, "watch"))


async def test_a_fault_in_a_view_is_shown_in_its_place(plain: Path, log: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    async with opened(plain) as (app, pilot):
        with monkeypatch.context() as patch:
            patch.setattr(type(app.views["health"]), "paint", lambda *_: {"even": 1}["odd"])
            await pilot.press("3")
            await until(pilot, lambda: "✕ something went wrong" in "\n".join(on_screen(app, row) for row in range(40)))
        await pilot.press("1")
        await until(pilot, lambda: "0A4" in shown(app))
        assert "KeyError" in log.read_text()


async def test_a_bus_that_turns_up_late_is_shown_while_the_picture_is_held(tmp_path: Path) -> None:
    folder = plain_recording(tmp_path / "live.keel")
    writer = Writer(folder)
    writer.append(batch([Row(START + 4 * 10**9, 0x0A4, b"\x01\x02")]))
    async with opened(folder) as (app, pilot):
        await pilot.press("3", "space")
        await until(pilot, lambda: is_open(app, "health") and picture_of(app).wish.held)
        writer.add_bus(Bus("late", 500_000, 2_000_000))
        writer.append(batch([Row(START + 5 * 10**9, 0x0A4, b"\x01\x02", bus=2)]))
        await until(pilot, lambda: len(picture_of(app).snapshot.manifest.buses) == 3)
        assert "load of each bus" in shown(app) and "did not foresee" not in notes(app)
        await pilot.press("space")
        await until(pilot, lambda: "late" in shown(app))
    writer.close()


def test_jobs_that_fail_one_after_another_leave_the_desk_at_work(plain: Path) -> None:
    news: list[Picture | Trouble] = []
    desk = Desk(plain, news.append)
    desk.wish(Wish(plain, want=WatchWant()))
    done: list[int] = []

    def fail(error: BaseException) -> None:
        raise error

    errors = (OSError(errno.EIO, "Input/output error"), KeyError("odd"), RecursionError(), ValueError("\x1b[31m"))
    for error in errors:
        desk.do(lambda error=error: fail(error))  # type: ignore[misc]
    desk.do(lambda: done.append(1))
    desk.start()
    for _ in range(200):
        if done and any(isinstance(one, Picture) for one in news):
            break
        desk._wake.wait(0.05)
    desk.close()
    desk.wait(5)
    assert done and sum(isinstance(one, Trouble) for one in news) == len(errors)


def test_jobs_that_were_asked_for_are_done_before_the_desk_ends(plain: Path) -> None:
    desk = Desk(plain, lambda _: None)
    done: list[int] = []
    desk.start()
    for i in range(50):
        desk.do(lambda i=i: done.append(i))  # type: ignore[misc]
    desk.close()
    desk.wait(5)
    assert done == list(range(50))
