"""The page on JSON says every key that commands print, and none that they do not."""

from __future__ import annotations

import contextlib
import json
import re
import shlex
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from keel.bench.messages import full_dictionary
from keel.formats.frame_lines import CSV_HEADER
from keel.signals.loading import save_dictionary
from tests.command import keel
from tests.lines.waves import vcd
from tests.lines.wires import uart, wave

PAGE = Path(__file__).parents[1] / "docs" / "json.md"
MOST_LINES = 3_000
SECTIONS = re.findall(r"^    keel ([^\n]+)\n\n(.*?)(?=^## |\Z)", PAGE.read_text(encoding="utf-8"), re.M | re.S)


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("json")
    work = "--at 3s:ramp=down --at 5s:ramp=stop --at 8s:ramp=up --at 10s:ramp=stop"
    with contextlib.chdir(folder):
        for name, more in (("harbour", work), ("other", "--at 3s:lights=on")):
            assert keel(*shlex.split(f"bench --seconds 12 --lines can --out {name}.keel {more}")).returncode == 0
    save_dictionary(full_dictionary(), folder / "harbour.dbc")
    assert keel("dict", "use", folder / "harbour.keel", folder / "harbour.dbc").returncode == 0
    (folder / "harbour.rules").write_text("cycle(0A4) < 1s\n")
    (folder / "probe.vcd").write_bytes(vcd(tx=wave(uart(b"$SDDPT,6.5*00\r\n" * 9, 9600))))
    assert keel("decode", folder / "probe.vcd", "-o", folder / "probed.keel").returncode == 0
    (folder / "pressed.csv").write_text("2.9,5.1\n7.9,10.1\n")
    return folder


def keys_in(value: Any, at: str = "") -> Iterator[str]:
    """Every key of some JSON, with what it lies in."""
    if isinstance(value, dict):
        for key, inside in value.items():
            yield f"{at}.{key}".lstrip(".")
            yield from keys_in(inside, f"{at}.{key}".lstrip("."))
    elif isinstance(value, list):
        for inside in value:
            yield from keys_in(inside, f"{at}[]")


@pytest.mark.parametrize("command, text", SECTIONS, ids=[command for command, _ in SECTIONS])
def test_the_page_names_the_keys_that_are_printed(command: str, text: str, place: Path) -> None:
    with contextlib.chdir(place):
        done = keel(*shlex.split(command))
    assert done.returncode == 0 and done.stdout, done.stderr
    try:
        printed = [json.loads(done.stdout)]
    except ValueError:
        printed = [json.loads(line) for line in done.stdout.splitlines()[:MOST_LINES]]
    rows = re.findall(r"^\| (`[^|]+`) \|", text, re.M)
    said = {key for row in rows for key in re.findall(r"`([^`]+)`", row)}
    assert said == {key for document in printed for key in keys_in(document)}


def test_the_page_names_the_columns_of_csv() -> None:
    assert ", ".join(CSV_HEADER[2:-2]) in " ".join(PAGE.read_text(encoding="utf-8").split())
