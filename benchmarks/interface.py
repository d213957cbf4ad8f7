"""How soon the app paints, and how soon it answers keys while a fast bus is recorded."""

from __future__ import annotations

import fcntl
import os
import pty
import select
import struct
import subprocess
import sys
import termios
import time
from pathlib import Path

from benchmarks.figures import Figure, best_of
from benchmarks.recording import FRAMES_A_SECOND
from keel.bench.headless import sail


class Screen:
    """A program in a terminal of its own; what it writes is watched for words."""

    def __init__(self, *arguments: str) -> None:
        self._master, slave = pty.openpty()
        fcntl.ioctl(slave, termios.TIOCSWINSZ, struct.pack("HHHH", 40, 160, 0, 0))
        environment = {**os.environ, "TERM": "xterm-256color", "COLORTERM": "truecolor"}
        self.begin = time.perf_counter()
        command = [sys.executable, "-m", "keel", *arguments]
        self.process = subprocess.Popen(command, stdin=slave, stdout=slave, stderr=slave, env=environment)
        os.close(slave)

    def until(self, word: bytes, patience_s: float = 30.0) -> float:
        """Seconds since the start when the word was written."""
        seen = b""
        end = time.perf_counter() + patience_s
        while time.perf_counter() < end:
            ready, _, _ = select.select([self._master], [], [], 0.5)
            if ready:
                seen = seen[-200:] + os.read(self._master, 1 << 16)
                if word in seen:
                    return time.perf_counter() - self.begin
        raise RuntimeError(f"{word!r} never came")

    def press(self, key: bytes, word: bytes) -> float:
        """Seconds from a key to the word it brings up."""
        while select.select([self._master], [], [], 0)[0]:
            os.read(self._master, 1 << 16)
        before = time.perf_counter()
        os.write(self._master, key)
        return self.until(word) + self.begin - before

    def close(self) -> None:
        """End it."""
        self.process.terminate()
        self.process.wait()
        os.close(self._master)


def first_screen(folder: Path) -> list[Figure]:
    """From the command to the first screen, and to the first data on it; beside an empty Python."""
    path = folder / "first.keel"
    sail(60, path, 1, [])
    painted, filled = [], []
    for _ in range(5):
        screen = Screen("open", str(path))
        painted.append(screen.until(b"1 Watch"))
        filled.append(screen.until(b"HelmCommand"))
        screen.close()
    empty = best_of(5, lambda: subprocess.run([sys.executable, "-c", "import textual.app, numpy"], check=True))
    beside = f"importing its libraries {empty * 1e3:.0f} ms"
    first, data = sorted(painted)[2], sorted(filled)[2]
    return [
        Figure("first screen, from the command", f"{first * 1e3:.0f} ms", beside, first / empty, "under 1 s"),
        Figure("first data on it (60 s of the ferry)", f"{data * 1e3:.0f} ms", beside, data / empty, ""),
    ]


def answering(folder: Path, seconds: float) -> list[Figure]:
    """From a key to its effect on the screen while 20,000 frames a second are recorded and shown."""
    path = folder / "answer.keel"
    speed = 20_500 / FRAMES_A_SECOND
    command = [sys.executable, "-m", "keel", "record", "--from", f"bench lines=can speed={speed:.2f}", str(path)]
    recorder = subprocess.Popen(command, stderr=subprocess.DEVNULL)
    try:
        while not (path / "recording.json").exists():
            time.sleep(0.05)
        screen = Screen("open", str(path))
        screen.until(b"HelmCommand")
        time.sleep(seconds / 2)
        took = []
        sorts = ["name▲", "frames▼", "rate /s▼", "cycle ms▲", "std ms▼", "activity▼", "len▼"]
        sorts += ["payload now, hex▲", "changes▼", "faults▼", "bus▲", "identifier▲"]
        for title in sorts * 3:
            took.append(screen.press(b"s", title.encode()))
            time.sleep(0.13)
        screen.press(b"2", b"same id")
        for form in ["bits", "decimal", "text", "hex"] * 8:
            took.append(screen.press(b"x", f"payload, {form}".encode()))
            time.sleep(0.17)
        screen.close()
    finally:
        recorder.terminate()
        recorder.wait()
    took.sort()
    middle, late = took[len(took) // 2], took[int(len(took) * 0.95)]
    return [
        Figure(
            "a key while 20,000 frames/s are recorded and watched",
            f"{middle * 1e3:.0f} ms, 95 %: {late * 1e3:.0f} ms",
            "one repaint at 60 Hz 17 ms",
            middle / 0.017,
            "within 50 ms",
        )
    ]
