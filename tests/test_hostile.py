"""Input that means harm, or is merely broken: refused or read, said in a line, and shown harmlessly."""

from __future__ import annotations

from pathlib import Path

import pytest

from keel.model.fields import BitField
from keel.model.identity import Form
from keel.model.span import Mark
from keel.signals.dictionary import Dictionary, Message, Signal
from keel.store.manifest import FILE, edit_manifest
from keel.store.recording import Recording
from tests.command import keel_bytes as keel
from tests.drive import KEEL, Terminal
from tests.making import START, Row, batch, recorded

NASTY = "[bold red]x[/]\x1b]0;owned\x07\x1b[2J\x1b[31m\u202e"
GOOD = b"(1700000000.000001) bus0 1A0#00\n"
PCAP = bytes.fromhex("d4c3b2a1020004000000000000000000ffff0000e3000000")

FILES: dict[str, bytes] = {
    "empty": b"",
    "one byte": b"(",
    "binary": bytes(range(256)) * 4000,
    "zeros": bytes(1_000_000),
    "one line of 10 MB": b"(1.0) x 1A0#" + b"00" * 5_000_000,
    "10 MB without a line": b"A" * 10_000_000,
    "cut header": PCAP[:17],
    "header alone": PCAP,
    "cut record": PCAP + bytes.fromhex("0000000000000000100000001000000000000123"),
    "lying record": PCAP + bytes.fromhex("0000000000000000ffffff7fffffff7f") + b"x" * 100,
    "null in a line": b"(1.0) b\0us 1A0#00\n" * 3,
    "only newlines": b"\n" * 100_000,
}


def is_harmless(output: bytes) -> bool:
    """Whether nothing in it can steer a terminal."""
    text = output.decode("utf-8")
    return not any((ord(c) < 32 and c not in "\n\t") or 127 <= ord(c) < 160 or c == "\u202e" for c in text)


@pytest.mark.parametrize("name", FILES)
def test_broken_files_end_in_one_line_and_leave_nothing(name: str, tmp_path: Path) -> None:
    path = tmp_path / "x"
    path.write_bytes(FILES[name])
    done = keel("import", path, "-o", tmp_path / "r")
    said = done.stderr.decode()
    assert done.returncode in (0, 1) and "Traceback" not in said
    assert is_harmless(done.stderr)
    assert (tmp_path / "r.keel").exists() == (done.returncode == 0)
    if done.returncode:
        assert len(said.strip().splitlines()) == 1 and said.startswith("keel: ")


@pytest.mark.parametrize("name", [n for n in FILES if "header" not in n and "record" not in n and n != "empty"])
def test_good_lines_survive_whatever_stands_around_them(name: str, tmp_path: Path) -> None:
    path = tmp_path / "x"
    path.write_bytes(GOOD + FILES[name] + b"\n" + GOOD)
    done = keel("import", path, "-o", tmp_path / "r")
    assert done.returncode == 0
    frames = Recording(tmp_path / "r.keel").snapshot()
    assert frames.frames >= 2
    assert frames.rows(0, 1).time.tolist() == [1_700_000_000_000_001_000]


def nasty_recording(folder: Path) -> Path:
    """Names, texts, units, marks and payloads that hold escape sequences and markup."""
    signal = Signal("[red]s[/]\x1b[5m", BitField(0, 8), unit="\x1b[1m[b]", texts={27: NASTY}, found="kept")
    dictionary = Dictionary((Message("a", Form.BASE, 0x1A0, NASTY, (signal,)),))
    payload = b"\x1b]0;owne"
    recorded(folder, batch([Row(START + i * 1_000_000, 0x1A0, payload) for i in range(50)]), dictionary=dictionary)
    with edit_manifest(folder) as manifest:
        manifest.name = NASTY
        manifest.source = NASTY
        manifest.marks.append(Mark(1, START + 5, NASTY))
        manifest.notes.append(NASTY)
    return folder


@pytest.mark.parametrize(
    "command", [["frames"], ["frames", "--json"], ["frames", "--csv"], ["stats"], ["stats", "--json"]]
)
def test_commands_print_names_and_payloads_harmlessly(command: list[str], tmp_path: Path) -> None:
    folder = nasty_recording(tmp_path / "r.keel")
    done = keel(command[0], folder, *command[1:])
    assert done.returncode == 0 and done.stdout
    assert is_harmless(done.stdout) and is_harmless(done.stderr)


def test_errors_repeat_what_they_were_given_harmlessly(tmp_path: Path) -> None:
    for arguments in (["frames", NASTY], ["frames", str(nasty_recording(tmp_path / "r.keel")), "--ask", NASTY]):
        done = keel(*arguments)
        assert done.returncode in (1, 2) and is_harmless(done.stderr)


@pytest.mark.journey
@pytest.mark.xdist_group("terminal")
def test_the_app_shows_markup_and_escapes_as_text(tmp_path: Path) -> None:
    folder = nasty_recording(tmp_path / "r.keel")
    terminal = Terminal(tmp_path, f"{KEEL} open {folder}")
    try:
        terminal.until("[bold red]x[/]·", "○ ended", "1A0")
        title = terminal._tmux("display", "-p", "#{pane_title}")
        terminal.keys("2")
        terminal.until("anatomy frame 1", "[red]s[/]·")
        terminal.keys("x", "x", "x")
        terminal.until("payload, text", "·]0;owne")
        for key, word in (
            ("3", "longest gap"),
            ("4", "what carries it?"),
            ("5", "[red]s[/]·"),
            ("6", "what is different?"),
            ("e", "esc leave"),
        ):
            terminal.keys(key)
            terminal.until(word)
        terminal.keys("Escape")
        terminal.until("esc leave", gone=True)
        terminal.keys("1")
        terminal.until("[bold red]x[/]·")
        assert terminal._tmux("display", "-p", "#{pane_title}") == title and "owned" not in title
        terminal.keys("q")
        terminal.until("EXIT 0")
    finally:
        terminal.close()


@pytest.mark.journey
@pytest.mark.xdist_group("terminal")
def test_the_shelf_shows_broken_recordings_harmlessly(tmp_path: Path, shelf_of_its_own: Path) -> None:
    shelf_of_its_own.mkdir()
    nasty_recording(shelf_of_its_own / "nasty.keel")
    (shelf_of_its_own / "broken.keel").mkdir()
    (shelf_of_its_own / "broken.keel" / FILE).write_bytes(b"\xff\xfe\x00")
    terminal = Terminal(tmp_path, f"{KEEL} open", columns=100, rows=30)
    try:
        terminal.until("[bold red]x[/]·", "broken", "cannot be read")
        terminal.keys("Down", "Enter")
        terminal.until("recordings")
        terminal.keys("Up", "Enter")
        terminal.until("○ ended")
        terminal.keys("q")
        terminal.until("EXIT 0")
    finally:
        terminal.close()
