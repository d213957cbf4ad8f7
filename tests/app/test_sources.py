"""Choosing what to record from, and how a recording that goes on shows how well it does."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from textual.pilot import Pilot

from keel.app.desk.holes import said as holes_said
from keel.app.dialogs.ask_text import AskText
from keel.app.dialogs.library import LibraryList
from keel.app.dialogs.sources import SourceList, Sources
from keel.app.main import KeelApp
from keel.errors import KeelError
from keel.sources.kind import Given, Kind, Offer, Parameter, Verdict, whole_number
from keel.sources.registry import KINDS, given_source
from keel.store.control import Status, write_status
from keel.store.manifest import Hole, edit_manifest
from keel.store.writer import Writer
from tests.app.driving import on_screen, opened, plain_recording, shown, until
from tests.making import START, Row, batch

SECOND = 10**9


@pytest.fixture
def wire(monkeypatch: pytest.MonkeyPatch) -> Iterator[threading.Event]:
    """A kind of source of our own: what is there, and a try-out that ends when it may."""
    may_end = threading.Event()

    def try_out(given: Given, stopped: Callable[[], bool]) -> Verdict:
        if given.where == "broken":
            raise KeelError("it is broken")
        while not (may_end.wait(0.01) or stopped()):
            pass
        if stopped():
            return Verdict("given up")
        return Verdict("good, 34 identifiers, 41 % load", True, {"rate": 250}, ("one thing [b]more\x1b",))

    def no_source(given: Given) -> None:
        raise AssertionError(given)

    kind = Kind(
        "wire", "wires", no_source, where="place", needs_where=True,  # type: ignore[arg-type]
        parameters=(Parameter("rate", "how fast", 100, (), *whole_number(1, 999)),),
        there=lambda: [
            Offer(kind.given("one"), "a wire", "made up"),
            Offer(kind.given("broken"), "a wire"),
            Offer(kind.given("down"), "a wire", "", "it is down; up it goes"),
        ],
        try_out=try_out, example="wire:one",
    )  # fmt: skip
    monkeypatch.setattr(
        "keel.sources.registry.KINDS", {"wire": kind, "serial": KINDS["serial"], "bench": KINDS["bench"]}
    )
    monkeypatch.setattr("keel.sources.finding.KINDS", {"wire": kind, "bench": KINDS["bench"]})
    yield may_end
    may_end.set()


def rows(app: KeelApp) -> str:
    sheet = app.screen.query_one(SourceList)
    return "\n".join(line.text().rstrip() for line in sheet.paint(sheet.size.width, sheet.size.height))


async def choosing(app: KeelApp, pilot: Pilot[None]) -> None:
    """The list of sources, filled."""
    await until(
        pilot, lambda: bool(app.screen.query(LibraryList)) and app.screen.query_one(LibraryList).found is not None
    )
    await pilot.press("r")
    await until(pilot, lambda: isinstance(app.screen, Sources) and app.screen.query_one(SourceList).rows is not None)


async def typed(app: KeelApp, pilot: Pilot[None], text: str) -> None:
    await until(pilot, lambda: isinstance(app.screen, AskText) and app.screen.is_ready)
    await pilot.press("ctrl+u", *["space" if c == " " else c for c in text], "enter")
    await until(pilot, lambda: isinstance(app.screen, Sources))


async def test_a_source_is_tried_out_and_what_was_found_is_taken(wire: threading.Event) -> None:
    app = KeelApp(None)
    async with app.run_test(size=(160, 40)) as pilot:
        await choosing(app, pilot)
        assert "wire:one" in rows(app) and "a wire, made up" in rows(app) and "✕ it is down; up it goes" in rows(app)
        await pilot.press("t")
        await until(pilot, lambda: "listening…" in rows(app))
        wire.set()
        await until(pilot, lambda: "good, 34 identifiers, 41 % load" in rows(app))
        assert "rate=250" in rows(app) and "one thing [b]more·" in rows(app)
        await pilot.press("down", "t")
        await until(pilot, lambda: "it is broken" in rows(app))


async def test_a_try_out_can_be_ended(wire: threading.Event) -> None:
    app = KeelApp(None)
    async with app.run_test(size=(160, 40)) as pilot:
        await choosing(app, pilot)
        await pilot.press("t")
        await until(pilot, lambda: "listening…" in rows(app))
        await pilot.press("t")
        await until(pilot, lambda: "given up" in rows(app))


async def test_several_are_taken_named_set_and_recorded(wire: threading.Event, monkeypatch: pytest.MonkeyPatch) -> None:
    app = KeelApp(None)
    launched: list[tuple[str, ...]] = []
    monkeypatch.setattr(app, "record", lambda sources, folder: launched.append(tuple(sources)))
    async with app.run_test(size=(160, 40)) as pilot:
        await choosing(app, pilot)
        await pilot.press("space", "up", "s")
        await typed(app, pilot, "rate=7")
        await until(pilot, lambda: "rate=7" in rows(app))
        await pilot.press("n")
        await typed(app, pilot, "serial:/dev/it rate=4800")
        await until(pilot, lambda: "serial:/dev/it" in rows(app))
        await pilot.press("space", "enter")
        await until(pilot, lambda: bool(launched))
    assert launched == [("wire:one rate=7", "serial:/dev/it rate=4800")]
    assert [given_source(text).values["rate"] for text in launched[0][1:]] == [4800]


async def test_what_cannot_be_is_said_and_changes_nothing(wire: threading.Event) -> None:
    app = KeelApp(None)
    async with app.run_test(size=(160, 40)) as pilot:
        await choosing(app, pilot)
        before = rows(app)
        for key, text in (("n", "horse:radish"), ("n", "serial:/dev/it rate=fast"), ("s", "rate=0")):
            await pilot.press(key)
            await typed(app, pilot, text)
            await until(pilot, lambda: bool(app._notifications))
            assert rows(app) == before
        await pilot.press("escape")
        await until(pilot, lambda: bool(app.screen.query(LibraryList)))


# How a recording goes.


@pytest.fixture
def live(tmp_path: Path) -> Iterator[Path]:
    folder = plain_recording(tmp_path / "live.keel")
    writer = Writer(folder)
    writer.append(batch([Row(START + 4 * SECOND, 0x0A4, b"\x01\x02")]))
    yield folder
    writer.close()


def hole(start_s: float, end_s: float | None, *buses: str) -> dict[str, object]:
    end = None if end_s is None else START + int(end_s * SECOND)
    return {"start": START + int(start_s * SECOND), "end": end, "buses": list(buses), "why": "pulled [b]out\x1b"}


def status(**more: object) -> Status:
    return Status(1, 1.0, 10, **{"in_hz": 8120.0, "disk_hz": 8099.0, "buffer": 0.4, "disk_left_s": 840.0, **more})  # type: ignore[arg-type]


async def test_health_and_head_say_how_it_goes(live: Path) -> None:
    lost = {"kernel": 3, "reader": 0, "disk": 2, "source": 0}
    write_status(live, status(lost=5, lost_at=lost, clock_steps=2, holes=[hole(1, 2, "a")]))
    async with opened(live, (160, 40)) as (app, pilot):
        await pilot.press("3")
        await until(pilot, lambda: "8 120/s in" in shown(app))
        text = shown(app)
        assert "8 099/s to disk · buffer 40 % · disk lasts 14 min" in text
        assert "5 lost: kernel 3, disk 2 · clock set 2× · 1 hole, 1.000 s at 1.0 s on a: pulled [b]out·" in text
        head = on_screen(app, 0)
        assert all(words in head for words in ("✕ 1 hole", "✕ clock set 2×", "buffer 40 %", "disk 14 min"))


async def test_a_hole_shows_on_the_tape_of_its_bus_while_it_lasts_and_afterwards(live: Path) -> None:
    write_status(live, status(holes=[hole(1, 2, "a"), hole(3, None, "b")]))
    async with opened(live, (160, 40)) as (app, pilot):
        await until(pilot, lambda: "╳" in on_screen(app, 1) and "╳" in on_screen(app, 2))
        assert "✕ source gone" in on_screen(app, 0)


async def test_holes_of_a_recording_that_has_ended_are_shown(tmp_path: Path) -> None:
    folder = plain_recording(tmp_path / "ended.keel")
    with edit_manifest(folder) as manifest:
        manifest.holes = [Hole(START + SECOND, START + 2 * SECOND, ("b",), "it was unplugged")]
        manifest.lost = 7
    async with opened(folder, (160, 40)) as (app, pilot):
        await until(pilot, lambda: "╳" in on_screen(app, 2))
        assert "╳" not in on_screen(app, 1)
        await pilot.press("3")
        await until(pilot, lambda: "7 lost · 1 hole, 1.000 s at 1.0 s on b: it was unplugged" in shown(app))


ODD = {"start": 1, "end": 2, "buses": ["a"], "why": "x"}


@pytest.mark.parametrize(
    "odd",
    [
        1, None, [], {}, {"start": "x"}, {**ODD, "end": 0}, {**ODD, "buses": 3}, {**ODD, "buses": [1]},
        {**ODD, "start": None, "end": None}, {**ODD, "why": 5},
    ],
)  # fmt: skip
def test_what_is_no_hole_is_not_believed(odd: object) -> None:
    assert holes_said([odd], 5) == []


def test_an_open_hole_reaches_to_now() -> None:
    (found,) = holes_said([{"start": 3, "end": None, "buses": ["a"], "why": "gone"}], 9)
    assert (found.start, found.end) == (3, 9)
