"""Odd ends: whatever becomes of the app or of what it reads, the terminal is put right and nothing is hidden."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

from keel.store.segment import segment_path
from tests.drive import KEEL, Terminal
from tests.making import START, Row, batch, recorded

pytestmark = [pytest.mark.journey, pytest.mark.xdist_group("terminal")]


@pytest.fixture
def terminal(tmp_path: Path) -> Callable[[str], Terminal]:
    return lambda command: Terminal(tmp_path, command)


@pytest.mark.parametrize("signal", ["BUS", "KILL", "HUP", "SEGV"])
def test_the_terminal_is_put_right_however_the_app_ends(
    voyage: Path, terminal: Callable[[str], Terminal], signal: str
) -> None:
    t = terminal(f"{KEEL} open {voyage}")
    try:
        t.until("1 Watch", "HelmCommand")
        before = t.modes()
        assert before["alternate_on"] == "1" and before["mouse_any_flag"] == "1" and before["cursor_flag"] == "0"
        t.kill(signal)
        screen = t.until("keel ended unexpectedly; what was recorded is kept.")
        assert "HelmCommand" not in screen
        assert t.modes() == {
            "alternate_on": "0", "mouse_any_flag": "0", "cursor_flag": "1", "keypad_cursor_flag": "0",
        }  # fmt: skip
    finally:
        t.close()


def test_nothing_is_said_of_an_end_in_order(voyage: Path, terminal: Callable[[str], Terminal]) -> None:
    t = terminal(f"{KEEL} open {voyage}")
    try:
        t.until("1 Watch", "HelmCommand")
        t.keys("q")
        assert "unexpectedly" not in t.until("EXIT 0") and t.modes()["alternate_on"] == "0"
    finally:
        t.close()


def test_a_segment_that_is_cut_while_it_is_open_is_told_and_the_rest_goes_on(
    tmp_path: Path, terminal: Callable[[str], Terminal]
) -> None:
    folder = tmp_path / "r.keel"
    found = [Row(START + i * 1_000_000, 0x100 + i % 5, bytes([i % 256] * 8)) for i in range(40_000)]
    recorded(folder, batch(found[:20_000]), batch(found[20_000:]))
    t = terminal(f"{KEEL} open {folder}")
    try:
        t.until("1 Watch", "40 000 frames", "100")
        t.keys("2")
        t.until("number", "anatomy")
        path = segment_path(folder, 1)
        with path.open("r+b") as file:
            file.truncate(path.stat().st_size // 10)
        t.keys("End", "Home", "PageDown", "1", "2", "3")
        t.until("20000 frames are missing", "20 000 frames")
        t.keys("1")
        t.until("payload now", "104")
        t.keys("q")
        t.until("EXIT 0")
    finally:
        t.close()
    shutil.rmtree(folder)
