"""What README and the reference say is so: command lines run, asks work in the demo, pictures are there, and the walk
works as it is written."""

from __future__ import annotations

import contextlib
import re
import shlex
import shutil
import subprocess
import sys
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest

from keel.ask.language import parse
from keel.ask.matches import Matcher
from keel.ask.names import scene_of
from keel.ask.vocabulary import help_lines
from keel.bench.messages import full_dictionary
from keel.measure.checks import parse_check
from keel.model.span import Mark
from keel.model.waveform import Logic
from keel.signals.loading import save_dictionary
from keel.sources.registry import given_source
from keel.store.manifest import edit_manifest
from keel.store.recording import Recording
from tests.command import keel
from tests.drive import KEEL, Terminal
from tests.lines.waves import vcd
from tests.lines.wires import uart, wave

ROOT = Path(__file__).parents[1]
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]
WINDOWED = ("keel open", "keel demo")
LIVE = ("keel record --from 'adapter", "keel record --from can", "keel bench --adapter", "keel sources")
"""What needs something that is plugged in, or goes on until it is interrupted: what it says is checked alone."""
KEYS = {
    "↑": "Up",
    "↓": "Down",
    "→": "Right",
    "←": "Left",
    "⌫": "BSpace",
    "enter": "Enter",
    "space": "Space",
    "tab": "Tab",
    "esc": "Escape",
    "del": "DC",
}


def commands_of(page: Path) -> list[str]:
    """The command lines of a page, comments left out."""
    lines = [line.strip() for line in page.read_text(encoding="utf-8").splitlines() if line.startswith("    ")]
    return [re.split(r"\s{2,}#", line)[0] for line in lines if re.match(r"(cat \S+ \| )?keel [a-z]+( [^=]|$)", line)]


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with all the files that the pages name."""
    folder = tmp_path_factory.mktemp("docs")
    work = "--at 3s:ramp=down --at 5s:ramp=stop --at 8s:ramp=up --at 10s:ramp=stop"
    run_in(folder, f"bench --seconds 12 --out harbour.keel {work}")
    for name in ("good", "bad"):
        shutil.copytree(folder / "harbour.keel", folder / f"{name}.keel")
    start = Recording(folder / "harbour.keel").snapshot().span.start
    with edit_manifest(folder / "harbour.keel") as manifest:
        times = (2.9, 5.1, 7.9, 10.1)
        manifest.marks = [Mark(i, start + int(t * 1e9), of="ramp") for i, t in enumerate(times, 1)]
    save_dictionary(full_dictionary(), folder / "harbour.dbc")
    save_dictionary(full_dictionary(), folder / "mine.toml")
    (folder / "pressed.csv").write_text("2.9,5.1\n7.9,10.1\n")
    (folder / "display.csv").write_text("".join(f"{t},{t * 2}\n" for t in range(1, 12)))
    (folder / "logger.csv").write_text("".join(f"{t / 2},{(t % 17) * 1.5}\n" for t in range(24)))
    (folder / "harbour.rules").write_text("cycle(0A4) < 1s\n")
    (folder / "morning.log").write_text("(1767262632.345678) can0 220#8001A4FF\n")
    (folder / "table.csv").write_text("ms;line;ident;n;b0;b1;b2;b3\n0,5;1;220;4;80;01;A4;FF\n1,5;1;220;4;80;01;A4;FE\n")
    (folder / "talk.txt").write_text("[2026-01-01 10:17:12.345] $DPT,4.30\n")
    (folder / "dump.bin").write_bytes(b"$DPT,4.30\n" * 9)
    said = wave(uart(b"$SDDPT,6.5*00\r\n" * 9, 9600))
    (folder / "probe.vcd").write_bytes(vcd(tx=said, rx=Logic(said.start, said.end + 200, said.first, said.edges + 100)))
    run_in(folder, "export harbour.keel noon.pcapng --ask id:220")
    return folder


def run_in(folder: Path, words: str) -> tuple[int, str]:
    """Run a command line in a folder; gives back the exit code and what was said of errors."""
    with contextlib.chdir(folder):
        done = keel(*shlex.split(words))
    return done.returncode, done.stderr


# Those on JSON are run by a test of their own.
@pytest.mark.parametrize("page", [page for page in PAGES if page.name != "json.md"], ids=lambda page: page.name)
def test_every_command_line_runs(page: Path, place: Path) -> None:
    for line in commands_of(page):
        if any(line.startswith(windowed) for windowed in WINDOWED):
            assert (place / line.split()[-1]).exists() or line.split()[-1] == "open"
            continue
        if any(line.startswith(live) for live in LIVE) and "--kinds" not in line:
            words = shlex.split(line)
            for spec in (words[i + 1] for i, word in enumerate(words) if word == "--from"):
                assert given_source(spec).where
            assert run_in(place, f"{words[1]} --help")[0] == 0
            continue
        # A page says how to make a thing; what another page made of that name is in the way.
        for made in re.findall(r"(?:-o|--out|record --from \S+) (\S+\.keel)(?! --align)", line):
            shutil.rmtree(place / made, ignore_errors=True)
        if line.startswith("cat"):
            piped = line.replace("keel", f"{shlex.quote(sys.executable)} -m keel", 1)
            piping = subprocess.run(piped, shell=True, cwd=place, check=False, capture_output=True, text=True)
            code, said = piping.returncode, piping.stderr
        else:
            code, said = run_in(place, line.removeprefix("keel "))
        assert code == 0, (line, said[-600:])


def asks_of(page: Path) -> Iterator[str]:
    """The asks in the first column of a page's tables."""
    for row in re.findall(r"^\| (`.*?) \| ", page.read_text(encoding="utf-8"), re.MULTILINE):
        yield from re.findall(r"`([^`]+)`", row)


def test_every_ask_of_the_reference_and_the_guide_works_in_the_demo(voyage: Path) -> None:
    # A voyage has no channels beside its lines.
    scene = replace(scene_of(snapshot := Recording(voyage).snapshot()), channels=("motor", "motor supply"))
    joined = [example for example, _ in help_lines()]
    guide = [ask for line in joined for ask in ([line] if re.search(r" (then|or|within) ", line) else line.split("  "))]
    found = [*asks_of(ROOT / "docs" / "asks.md"), *guide]
    assert len(found) > 50
    for ask in found:
        Matcher(parse(ask, scene), scene).run(snapshot)
    checks = re.findall(
        r"^    ((?:cycle|count|load)\(.*?)\s{2,}", (ROOT / "docs" / "asks.md").read_text(), re.MULTILINE
    )
    assert len(checks) == 3 and all(parse_check(text) for text in checks)


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_every_link_leads_somewhere(page: Path) -> None:
    links = re.findall(r"\]\(([^)#]+)\)", page.read_text(encoding="utf-8"))
    assert not [link for link in links if not (page.parent / link).exists()]


def test_every_picture_is_shown_somewhere() -> None:
    shown = "".join(page.read_text(encoding="utf-8") for page in PAGES)
    pictures = [path.name for path in (ROOT / "docs" / "screenshots").iterdir()]
    assert len(pictures) < 20 and not [name for name in pictures if f"screenshots/{name}" not in shown]


def steps_of(readme: str) -> list[tuple[str, list[str]]]:
    """The rows of the walk: what to press, and the texts that are then on the screen."""
    walk = readme[readme.index("## A walk") : readme.index("## On your own data")]
    rows = [line.strip("|").split(" | ") for line in walk.splitlines() if line.startswith("| ") and "press" not in line]
    return [(row[0], re.findall(r"`([^`]+)`", row[2]) if len(row) > 2 else []) for row in rows]


def walk(folder: Path, seed: int) -> None:
    """Go through the walk key by key."""
    import time

    terminal = Terminal(folder, f"{KEEL} demo --seed {seed}", 160, 40)
    try:
        terminal.until("● live", "HelmCommand", "ThrusterCommand", "PodPortFeedback")
        for pressed, texts in steps_of((ROOT / "README.md").read_text(encoding="utf-8")):
            for key, wait in re.findall(r"`([^`]+)`|\(wait (\d+) s\)", pressed):
                if wait:
                    time.sleep(float(wait))
                elif key in KEYS or len(key) == 1:
                    terminal.keys(KEYS.get(key, key))
                    time.sleep(0.3)
                else:
                    terminal.type(key)
            if texts:
                terminal.until(*texts)
        terminal.until("EXIT 0")
    finally:
        terminal.close()


@pytest.mark.journey
@pytest.mark.xdist_group("terminal")
def test_the_walk_works_as_it_is_written(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    walk(tmp_path, 1)


@pytest.mark.soak
@pytest.mark.xdist_group("terminal")
@pytest.mark.parametrize("seed", range(2, 12))
def test_the_walk_works_at_other_seeds(seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    walk(tmp_path, seed)
