"""Marks belong to tries, Hunt says how much it knows, and a draft dictionary fills in what nobody named."""

from __future__ import annotations

import shutil
from functools import partial
from pathlib import Path

import pytest
from textual.pilot import Pilot

from keel.app.main import KeelApp
from keel.app.views.bench.view import Bench
from keel.bench.controls import CONTROLS
from keel.model.span import Mark
from keel.store.manifest import edit_manifest, load_manifest
from keel.store.recording import Recording
from tests.app.driving import has_said, is_open, notes, opened, result_of, shown, until


@pytest.fixture
def tried(voyage: Path, tmp_path: Path) -> Path:
    """The voyage, with marks of the ramp and, after them, of something that nobody named."""
    folder = tmp_path / "tried.keel"
    shutil.copytree(voyage, folder)
    start = Recording(voyage).snapshot().span.start
    with edit_manifest(folder) as manifest:
        seconds = (19.7, 24.4, 34.6, 38.3, 50.0, 53.0)
        names = ("ramp",) * 4 + ("horn",) * 2
        manifest.marks = [
            Mark(i + 1, start + int(t * 1e9), of=name) for i, (t, name) in enumerate(zip(seconds, names, strict=True))
        ]
    return folder


def tries(folder: Path) -> list[str]:
    return [mark.of for mark in load_manifest(folder).marks]


async def searched(app: KeelApp, pilot: Pilot[None]) -> None:
    await until(pilot, lambda: is_open(app, "hunt") and result_of(app))


async def test_the_last_try_is_used_and_others_by_choice(tried: Path) -> None:
    async with opened(tried) as (app, pilot):
        await pilot.press("4")
        await searched(app, pilot)
        await until(pilot, lambda: "horn: 2 marks" in shown(app))
        assert "give 1 span" in shown(app) and "t: 1 other try" in shown(app)
        await pilot.press("t")
        await until(pilot, lambda: "ramp: 4 marks" in shown(app))
        await searched(app, pilot)
        await until(pilot, lambda: "220" in shown(app) and "221" in shown(app))
        lines = shown(app).splitlines()
        assert any(line.strip().startswith(("found", "undecided")) for line in lines[:3])
        assert "by chance" in shown(app)
        await pilot.press("t")
        await until(pilot, lambda: "horn: 2 marks" in shown(app))


async def test_a_new_try_takes_the_mark_without_a_partner_along(tried: Path) -> None:
    async with opened(tried) as (app, pilot):
        await pilot.press("4")
        await searched(app, pilot)
        await pilot.press("m")
        await until(pilot, lambda: tries(tried)[-1] == "horn" and len(tries(tried)) == 7)
        await pilot.press("n")
        await until(pilot, lambda: len(app.screen_stack) == 2)
        await pilot.press(*"door", "enter")
        await until(pilot, lambda: tries(tried)[-2:] == ["horn", "door"])
        assert has_said(app, "marks are of “door” from now on")
        await pilot.press("m")
        await until(pilot, lambda: tries(tried)[-2:] == ["door", "door"])


async def test_what_is_operated_on_the_bench_names_the_try(tried: Path) -> None:
    async with opened(tried) as (app, pilot):
        bench = Bench()
        for name, value in (("lights", "on"), ("fault-panel", "on")):
            bench._operate(app, next(c for c in CONTROLS if c.name == name), value)
        await pilot.press("m")
        await until(pilot, lambda: tries(tried)[-1] == "lights")


async def test_one_try_has_no_other(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("4")
        await until(pilot, partial(is_open, app, "hunt"))
        await pilot.press("t")
        await until(pilot, lambda: "one try" in notes(app))


async def test_a_draft_fills_the_dictionary_and_is_taken_back(tried: Path) -> None:
    before = load_manifest(tried).dictionary
    async with opened(tried) as (app, pilot):
        await pilot.press("4")
        await searched(app, pilot)
        await pilot.press("d")
        await until(pilot, lambda: len(load_manifest(tried).dictionary.messages) > 20)
        await until(pilot, lambda: has_said(app, "drafted"))
        drafted = load_manifest(tried).dictionary
        named = before.messages[0] if before.messages else None
        assert named is None or any(m.ident == named.ident and m.name == named.name for m in drafted.messages)
        await pilot.press("5")
        await until(pilot, lambda: is_open(app, "values") and "flag_221_8" in shown(app))
        await pilot.press("4")
        await until(pilot, partial(is_open, app, "hunt"))
        await pilot.press("backspace", "backspace", "backspace")
        await until(pilot, lambda: load_manifest(tried).dictionary == before)
