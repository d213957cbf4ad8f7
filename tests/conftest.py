"""Shared by all tests."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from keel.bench.headless import sail
from tests.drive import Start, Terminal

# How fast a machine is must not decide whether a test passes.
settings.register_profile(
    "keel", deadline=None, max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
settings.load_profile("keel")


@pytest.fixture(autouse=True)
def environment_is_left_as_it_was() -> Iterator[None]:
    """What one test sets in the environment is no matter of the next."""
    before = dict(os.environ)
    yield
    after = {name: value for name, value in os.environ.items() if name != "PYTEST_CURRENT_TEST"}
    before.pop("PYTEST_CURRENT_TEST", None)
    assert after == before


@pytest.fixture(autouse=True)
def shelf_of_its_own(
    environment_is_left_as_it_was: None, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> Iterator[Path]:
    """No test sees the recordings or the settings of the person who runs it."""
    home = tmp_path / "shelf"
    monkeypatch.setenv("KEEL_HOME", str(home))
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    yield home


@pytest.fixture(scope="session")
def voyage(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A minute of the ferry: the ramp goes down and up, the thruster starts, the shore link is pulled."""
    out = tmp_path_factory.mktemp("voyage") / "voyage.keel"
    events = [
        (20.0, "ramp", "down"),
        (24.0, "ramp", "stop"),
        (35.0, "ramp", "up"),
        (38.0, "ramp", "stop"),
        (45.0, "thruster", "port"),
        (47.0, "thruster", "off"),
        (40.0, "shore", "plugged"),
        (50.0, "shore", "unplugged"),
    ]
    sail(60, out, 1, events)
    return out


@pytest.fixture
def start(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Start]:
    """Opens terminals and closes them."""
    opened: list[Terminal] = []
    monkeypatch.chdir(tmp_path)

    def run(command: str, columns: int = 160, rows: int = 40) -> Terminal:
        folder = tmp_path / f"terminal{len(opened)}"
        folder.mkdir()
        opened.append(Terminal(folder, command, columns, rows))
        return opened[-1]

    yield run
    for terminal in opened:
        terminal.close()
    time.sleep(0.2)
