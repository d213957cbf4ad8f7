"""Random changes, undo, redo, edits of another process, growth, failures and resizes through the real app, and what is
shown compared with what the state says."""

from __future__ import annotations

import errno
import subprocess
import sys
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from random import Random
from typing import Any

import pytest
from textual.pilot import Pilot

import keel
from keel.app.main import KeelApp
from keel.app.shared import trouble
from keel.app.shared.state import State
from keel.app.views.bench.choices import BenchChoices
from keel.app.views.compare.choices import CompareChoices
from keel.app.views.every import DOORS
from keel.app.views.hunt.choices import HuntChoices
from keel.app.views.watch.wants import WatchWant
from keel.errors import AskError
from keel.media.every import key_words
from keel.store import manifest as manifest_module
from keel.store.manifest import Manifest, NamedAsk, edit_manifest, load_manifest
from keel.store.writer import Writer
from tests.app.driving import is_open, opened, picture_of, plain_recording, shown, until
from tests.making import START, Row, batch

ASKS = ("", "id:0A4", "fault", "bus:b or id:220", "moved", "name:Gone", "gap>12ms")
LEAVING = {"q", "L", "D", "e"}
THEIRS = """
import sys
from pathlib import Path
from keel.store.manifest import NamedAsk, edit_manifest
with edit_manifest(Path(sys.argv[1])) as manifest:
    manifest.asks = [*manifest.asks, NamedAsk(sys.argv[2], "fault")]
"""


def mine(manifest: Manifest) -> tuple[object, ...]:
    """What the keys of the app can have written."""
    asks = [a for a in manifest.asks if not a.name.startswith("theirs")]
    parts = (manifest.marks, manifest.comments, asks, manifest.checks, manifest.readings, manifest.boards)
    return (*(Counter(map(repr, part)) for part in parts), manifest.nominal)


def theirs(manifest: Manifest) -> set[str]:
    return {a.name for a in manifest.asks if a.name.startswith("theirs")}


@contextmanager
def failing(kind: str, patch: pytest.MonkeyPatch) -> Iterator[None]:
    """A full disk, or a fault in what is made for a view."""

    def full(*_: Any, **__: Any) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    with patch.context() as here:
        if kind == "disk":
            here.setattr(manifest_module, "write_atomically", full)
        else:
            here.setattr(WatchWant, "make", lambda *_: 1 // 0)
        yield


class Person:
    """Someone at the keys, and what is expected of the app."""

    def __init__(self, app: KeelApp, pilot: Pilot[None], random: Random, writer: Writer, patch: pytest.MonkeyPatch):
        self.app, self.pilot, self.random, self.writer, self.patch = app, pilot, random, writer, patch
        assert app.state.folder is not None
        self.folder = app.state.folder
        self.others = 0
        self.time = START + 10 * 10**9

    async def settle(self) -> None:
        """Wait until the picture is of what the state says, and all that was asked for is written."""
        done: list[int] = []
        self.app.submit(lambda: done.append(1))
        await until(self.pilot, lambda: done and is_open(self.app, self.app.state.view))

    async def leave_windows(self) -> None:
        while len(self.app.screen_stack) > 1 or self.app.asking.typing:
            await self.pilot.press("escape")
            await self.pilot.pause(0.02)

    async def step(self) -> str:
        """One thing that happens; returns what it was."""
        what = self.random.choices(
            ("key", "view", "ask", "note", "check", "grow", "theirs", "resize", "disk", "fault", "process"),
            (40, 12, 8, 6, 4, 8, 6, 4, 4, 3, 1),
        )[0]
        app, random = self.app, self.random
        if what == "key":
            action = random.choice([a for a in app.actions if not (LEAVING | {"backspace"}) & set(a.keys)])
            what = random.choice(action.keys)
            await self.pilot.press(what)
        elif what == "view":
            what = random.choice(DOORS).key
            await self.pilot.press(what)
        elif what == "ask":
            app.change("ask", replace(app.state, ask=random.choice(ASKS)))
        elif what in ("note", "check"):
            await self.write(what)
        elif what in ("disk", "fault"):
            with failing(what, self.patch):
                await self.pilot.press("m" if what == "disk" else "plus")
                await self.pilot.pause(0.3)
        elif what == "grow":
            rows = [Row(self.time + i * 1_000_000, 0x0A4, bytes([i])) for i in range(random.randrange(1, 200))]
            self.time = rows[-1].time + 1_000_000
            self.writer.append(batch(rows))
        elif what == "resize":
            await self.pilot.resize_terminal(random.randrange(60, 200), random.randrange(16, 60))
        else:
            self.others += 1
            name = f"theirs {self.others}"
            if what == "process":
                subprocess.run([sys.executable, "-c", THEIRS, str(self.folder), name], check=True)
            else:
                with edit_manifest(self.folder) as manifest:
                    manifest.asks = [*manifest.asks, NamedAsk(name, "fault")]
        await self.leave_windows()
        return what

    async def write(self, what: str) -> None:
        from keel.app.desk import edits

        if not picture_of(self.app).snapshot.frames:
            return
        if what == "note":
            number = self.random.randrange(20)
            self.app.edit("note", edits.note_on(number, f"note {self.random.randrange(9)}"))
        else:
            text = f"count(fault) < {self.random.randrange(9)}"
            self.app.edit("check", edits.check(text, self.random.random() < 0.6))

    def compare(self) -> None:
        """What is shown is what the state says."""
        app, state, picture = self.app, self.app.state, picture_of(self.app)
        assert app.bar.view == state.view and app.asking.input.value == state.ask
        assert (picture.wish.ask, picture.wish.lens, picture.wish.held) == (state.ask, state.lens, state.held)
        width = app.stage.size.width
        assert all(line.width == width for line in app.stage.paint(width, app.stage.size.height))
        if not state.held:
            self.compare_count()
        text = shown(app)
        in_hand = [line for line in text.splitlines() if line.startswith("▌")]
        pick = app.view.pick(app.here)
        if state.view in ("watch", "frames") and picture.census and len(picture.matches) and pick is not None:
            assert len(in_hand) == 1 and f" {key_words(pick)} " in in_hand[0], text

    def compare_count(self) -> None:
        """As many frames as the library finds, asked anew."""
        state, picture = self.app.state, picture_of(self.app)
        if not picture.matches.complete:
            return
        recording = keel.open(self.folder)
        if recording.snapshot.frames != picture.snapshot.frames:
            return
        try:
            frames = recording.frames(state.ask)
        except AskError:
            assert picture.ask_error and len(picture.matches) == 0
        else:
            assert picture.matches.total == len(frames)


def same(state: State, other: State) -> bool:
    """Whether two states are the same, but for what is no change: hold, searching again, operating a control."""
    quiet = {HuntChoices: {"again": 0}, CompareChoices: {"again": 0}, BenchChoices: {"asked": (), "cursor": 0}}

    def plain(one: State) -> State:
        for kind, to in quiet.items():
            one = one.having(replace(one.of(kind), **to))  # type: ignore[arg-type]
        return replace(one, held=False, own={k: v for k, v in one.own.items() if v != k()})

    return plain(state) == plain(other)


async def live(seed: int, steps: int, folder: Path, patch: pytest.MonkeyPatch) -> None:
    random = Random(seed)
    writer = Writer(plain_recording(folder))
    writer.append(batch([Row(START + 9 * 10**9, 0x0A4, b"\x01\x02")]))
    async with opened(folder) as (app, pilot):
        person = Person(app, pilot, random, writer, patch)
        await person.settle()
        first, written = app.state, mine(load_manifest(folder))
        done: list[str] = []
        for _ in range(steps):
            done.append(await person.step())
            assert app.is_running
            if random.random() < 0.3:
                await person.settle()
                person.compare()
        await person.settle()
        last, changed = app.state, mine(load_manifest(folder))
        while app.history.steps:
            await pilot.press("backspace")
        await person.settle()
        assert same(app.state, first), done
        assert mine(load_manifest(folder)) == written, done
        assert theirs(load_manifest(folder)) == {f"theirs {n}" for n in range(1, person.others + 1)}, done
        while app.history.undone:
            await pilot.press("greater_than_sign")
        await person.settle()
        assert same(app.state, last), done
        assert mine(load_manifest(folder)) == changed, done
        person.compare()
    writer.close()


@pytest.fixture(autouse=True)
def of_its_own(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(trouble, "log_file", lambda: tmp_path / "keel.log")
    monkeypatch.chdir(tmp_path)


@pytest.mark.parametrize("seed", range(2))
async def test_what_is_shown_is_what_the_state_says(seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    await live(seed, 40, tmp_path / "r.keel", monkeypatch)


@pytest.mark.soak
@pytest.mark.parametrize("seed", range(100, 112))
async def test_for_a_long_time_too(seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    await live(seed, 150, tmp_path / "r.keel", monkeypatch)
