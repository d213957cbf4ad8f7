"""Every argument of every command with values that nobody should give: one clear line, and never a traceback."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import typer.main

import keel
from keel import cli
from tests.command import keel as keel_here
from tests.making import START, Row, batch, recorded

NUMBERS = ["nan", "inf", "-inf", "-1", "0", "1e400", "9" * 25, "", "x", "0x10", "1e-400"]
TEXTS = ["", "\x1b[31m", "\udcff", "ä" * 300, "..", "5..1", "nan..inf", "1e400..", "99..", '"', "a=b=c"]
ASKS = [
    "not " * 3000 + "fault", "(" * 3000, "bit@99999999999999999999:1", "len>1e9", "at:9999999h..", "at:5s..1s",
    "id:800", "near(fault within 99999999999h)", "bytes@99999999999:00", "moved@4294967296", "name:*", "x.y>nan", '"',
    "text:\x00", "gap>0.0000000000000001ns", "fault then fault within 0s", "id:" + ",".join(["1"] * 500),
]  # fmt: skip
SKIP = {"demo", "open", "prepare", "record"}
"""The app needs a terminal, and a recorder goes on until it is told to stop: those have tests of their own."""


@pytest.fixture(scope="module")
def world(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A recording, files of every kind that is no good, and places that cannot be written."""
    folder = tmp_path_factory.mktemp("misuse")
    found = [Row(START + i * 10_000_000, 0x100 + i % 3, bytes([i % 256, 3]), bus=i % 2) for i in range(60)]
    recorded(folder / "r.keel", batch(found))
    (folder / "binary").write_bytes(bytes(range(256)) * 4)
    (folder / "empty").write_bytes(b"")
    (folder / "text").write_text("hello, world\nthis is nothing\n")
    (folder / "cut.pcapng").write_bytes(bytes.fromhex("0a0d0d0a1c0000004d3c2b1a"))
    (folder / "x.log").write_text("(1.0) bus0 1A0#00\n(2.0) bus0 1A0#01\n")
    (folder / "huge.csv").write_text("1e400,1\nnan,2\n")
    (folder / "d.dbc").write_text('VERSION ""\nBO_ 256 Drive: 2 Vector__XXX\n SG_ speed : 0|8@1+ (1,0) [0|0] "" X\n')
    (folder / "bad.keel").mkdir()
    (folder / "bad.keel" / "recording.json").write_text('{"schema": 2, "buses": 3}')
    (folder / "newer.keel").mkdir()
    (folder / "newer.keel" / "recording.json").write_text('{"schema": 99}')
    return folder


def paths(world: Path) -> list[str]:
    inside = ["r.keel", "binary", "empty", "text", "cut.pcapng", "x.log", "huge.csv", "bad.keel", "newer.keel", "d.dbc"]
    return [str(world / name) for name in inside] + [
        ".", "/", "", "nowhere", "/proc/self/mem", "/dev/null", "/proc/nowhere/x", "x" * 300, "\udcff", "a\x00b", "~",
    ]  # fmt: skip


def commands() -> Iterator[tuple[str, Any]]:
    import keel.cli.bench
    import keel.cli.bus
    import keel.cli.checking
    import keel.cli.compare
    import keel.cli.dictionary
    import keel.cli.draw
    import keel.cli.exporting
    import keel.cli.frames
    import keel.cli.hunt
    import keel.cli.importing
    import keel.cli.keeping
    import keel.cli.live
    import keel.cli.signals
    import keel.cli.stats  # noqa: F401

    group: Any = typer.main.get_command(cli.app)
    for name, command in group.commands.items():
        if hasattr(command, "commands"):
            yield from ((f"{name} {sub}", one) for sub, one in command.commands.items())
        elif name not in SKIP:
            yield name, command


def usual(name: str, world: Path, out: Path) -> dict[str, list[str]]:
    """What each command needs, by parameter, so that one at a time can be spoilt."""
    rec, dbc = str(world / "r.keel"), str(world / "d.dbc")
    given: dict[str, dict[str, list[str]]] = {
        "import": {"files": [str(world / "x.log")], "output": ["-o", str(out / "made.keel")]},
        "export": {"recording": [rec], "output": [str(out / "made.csv")]},
        "bus": {"recording": [rec], "name": ["a"]},
        "compare": {"a": [rec], "b": [rec]},
        "draw": {"what": ["load"], "recording": [rec], "output": ["-o", str(out / "made.svg")]},
        "bench": {"seconds": ["--seconds", "0.1"], "out": ["--out", str(out / "made.log")]},
        "check": {"recording": [rec], "rules": ["--rules", str(world / "text")]},
        "pack": {"recording": [rec], "to": ["--to", str(out / "copy.keel")]},
        "unpack": {"recording": [rec], "to": ["--to", str(out / "copy.keel")]},
        "dict check": {"file": [dbc]},
        "dict convert": {"file": [dbc], "output": ["--to", str(out / "made.toml")]},
        "dict merge": {"files": [dbc], "output": ["--to", str(out / "made.toml")]},
        "dict schema": {},
        "dict use": {"recording": [rec], "file": [dbc]},
        "dict drop": {"recording": [rec], "name": ["nothing"]},
    }
    return given.get(name, {"recording": [rec]})


def values(parameter: Any, world: Path) -> list[str]:
    kind = str(parameter.bare_type).lower()
    if "path" in kind or parameter.name in ("a", "b"):
        return paths(world)
    if "float" in kind or "int" in kind:
        return NUMBERS
    if parameter.name == "ask":
        return ASKS + TEXTS
    return [*TEXTS, *NUMBERS, str(world / "binary"), "."]


COMMANDS = dict(commands())


def spoilt(name: str, world: Path, out: Path, every: int) -> Iterator[list[str]]:
    """Command lines with one argument that is no good; of the values there are for one, each so many-eth."""
    base = usual(name, world, out)
    yield [*name.split(), *(word for words in base.values() for word in words)]
    for place, parameter in enumerate(COMMANDS[name].params):
        rest = [word for key, words in base.items() if key != parameter.name for word in words]
        if parameter.param_type_name == "option" and parameter.is_flag:
            yield [*name.split(), *rest, parameter.opts[0]]
            continue
        for value in values(parameter, world)[place % every :: every]:
            if parameter.param_type_name == "option":
                yield [*name.split(), *rest, parameter.opts[0], value]
            else:
                words = [base[key] if key != parameter.name else [value] for key in base]
                yield [*name.split(), *(word for one in words for word in one)]


@pytest.mark.parametrize("every", [4, pytest.param(1, marks=pytest.mark.soak)])
@pytest.mark.parametrize("name", sorted(COMMANDS))
def test_every_argument_of_every_command_is_taken_or_refused_in_a_clear_line(
    name: str, every: int, world: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    wrong = []
    for number, arguments in enumerate(spoilt(name, world, Path("out"), every)):
        Path(f"out{number}").mkdir()
        arguments = [f"out{number}/{word[4:]}" if word.startswith("out/") else word for word in arguments]
        shown = [word[:60] for word in arguments]
        try:
            done = keel_here(*arguments)
        except BaseException as error:
            place = error.__traceback__
            while place is not None and place.tb_next is not None:
                place = place.tb_next
            at = f"{place.tb_frame.f_code.co_filename[-40:]}:{place.tb_lineno}" if place is not None else ""
            wrong.append((shown, f"{error!r:.200} {at}"))
            continue
        code, said = done.returncode, done.stderr
        if code not in (0, 1, 2) or "Traceback" in said or "\x1b" in said or cli.UNFORESEEN in said:
            wrong.append((shown, f"{code} {said[-300:]}"))
        elif code == 1 and not said.strip() and arguments[0] not in ("check", "verify", "dict"):
            wrong.append((shown, "fails without a word"))
        elif len(said) > 4000:
            wrong.append((shown, f"says {len(said)} characters"))
    assert not wrong, "\n".join(map(str, wrong[:40])) + f"\n{len(wrong)} in all"
    assert (world / "r.keel" / "recording.json").is_file()


@pytest.mark.parametrize("arguments", [["stats", "r.keel"], ["hunt", "r.keel", "--structure"], ["frames", "r.keel"]])
def test_an_output_that_is_not_utf8_gets_escapes(world: Path, arguments: list[str]) -> None:
    environment = {**os.environ, "PYTHONIOENCODING": "ascii", "LC_ALL": "C", "PYTHONUTF8": "0"}
    done = subprocess.run(
        [sys.executable, "-m", "keel", *arguments], cwd=world, env=environment, capture_output=True, check=False
    )
    assert done.returncode == 0 and done.stdout.isascii() and b"Traceback" not in done.stderr


def test_without_a_writable_home_compiled_parts_are_kept_for_the_time_being(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    # Set first, so that what is found is not left to the tests that follow: they would compile everything anew.
    monkeypatch.setenv("NUMBA_CACHE_DIR", "")
    monkeypatch.delenv("NUMBA_CACHE_DIR")
    monkeypatch.setenv("HOME", "/nonexistent")
    monkeypatch.setattr("tempfile.tempdir", str(tmp_path))
    keel._find_room_for_compiled_code()
    # The program's folder can be written here: nothing has to be done.
    assert "NUMBA_CACHE_DIR" not in os.environ
    monkeypatch.setattr("os.access", lambda *_: False)
    keel._find_room_for_compiled_code()
    place = Path(os.environ["NUMBA_CACHE_DIR"])
    assert place.parent == tmp_path and place.stat().st_mode & 0o777 == 0o700
    monkeypatch.setattr("os.access", lambda path, _: str(path) == "/")
    monkeypatch.delenv("NUMBA_CACHE_DIR")
    keel._find_room_for_compiled_code()
    assert "NUMBA_CACHE_DIR" not in os.environ


def test_what_nobody_foresaw_is_one_line_and_is_written_down(world: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def broken(*_: object, **__: object) -> None:
        raise ZeroDivisionError("here")

    monkeypatch.setattr("keel.measure.report.traffic", broken)
    done = keel_here("stats", world / "r.keel")
    said = done.stderr
    assert (
        done.returncode == 1 and cli.UNFORESEEN in said and "ZeroDivisionError: here" in said and said.count("\n") == 1
    )
    written = re.search(r"(\S+keel-error-\d+\.txt)", said)
    assert written is not None and "in broken" in Path(written[1]).read_text()
    Path(written[1]).unlink()
