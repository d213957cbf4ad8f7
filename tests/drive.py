"""Drives the real program in a real terminal: keys go in through tmux, the screen comes back as text."""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

PATIENCE_S = 180.0
KEEL = f"{shlex.quote(sys.executable)} -m keel"
Start = Callable[..., "Terminal"]


class Terminal:
    """A terminal of a size with a command running in it."""

    def __init__(self, folder: Path, command: str, columns: int = 160, rows: int = 40) -> None:
        if shutil.which("tmux") is None:
            raise RuntimeError("tmux is missing: make test installs it")
        self._socket = str(folder / "tmux")
        environment = {**os.environ, "COLORTERM": "truecolor", "LC_ALL": "C.UTF-8", "TERM": "xterm-256color"}
        for name in ("TMUX", "COLUMNS", "LINES"):
            environment.pop(name, None)
        size = ["-x", str(columns), "-y", str(rows)]
        keep = f"{command}; echo EXIT $?; sleep 3600"
        subprocess.run(
            ["tmux", "-S", self._socket, "-f", "/dev/null", "new-session", "-d", *size, "sh", "-c", keep],
            check=True,
            env=environment,
        )
        self._tmux("set", "-g", "escape-time", "0")

    def _tmux(self, *arguments: str) -> str:
        done = subprocess.run(["tmux", "-S", self._socket, *arguments], capture_output=True, text=True, check=True)
        return done.stdout

    def screen(self) -> str:
        """The screen as text."""
        return self._tmux("capture-pane", "-p")

    def keys(self, *names: str) -> None:
        """Press keys, as tmux names them."""
        for name in names:
            self._tmux("send-keys", name)
            time.sleep(0.03)

    def type(self, text: str) -> None:
        """Type text."""
        self._tmux("send-keys", "-l", text)

    def drag(self, start: tuple[int, int], end: tuple[int, int]) -> None:
        """Press the left button on a cell (column, row; from 0), move, let go, as a terminal reports it."""
        (a, b), (c, d) = start, end
        for report in (f"\x1b[<0;{a + 1};{b + 1}M", f"\x1b[<32;{c + 1};{d + 1}M", f"\x1b[<0;{c + 1};{d + 1}m"):
            self.type(report)
            time.sleep(0.1)

    def until(self, *texts: str, gone: bool = False) -> str:
        """Wait until all the texts are on the screen (or none of them is); returns the screen."""
        end = time.monotonic() + PATIENCE_S
        while True:
            screen = self.screen()
            if all((text in screen) != gone for text in texts):
                return screen
            if time.monotonic() > end:
                what = "still there" if gone else "never came"
                raise AssertionError(f"{what}: {[t for t in texts if (t in screen) == gone]}\n{screen}")
            time.sleep(0.1)

    def kill(self, signal: str = "KILL") -> None:
        """Kill what runs in it, without warning."""
        shell = self._tmux("display", "-p", "#{pane_pid}").strip()
        subprocess.run(["pkill", f"-{signal}", "-P", shell], check=True)

    def modes(self) -> dict[str, str]:
        """How the terminal stands: the alternate screen, mouse reports, the cursor."""
        names = ("alternate_on", "mouse_any_flag", "cursor_flag", "keypad_cursor_flag")
        found = self._tmux("display", "-p", " ".join(f"#{{{name}}}" for name in names)).split()
        return dict(zip(names, found, strict=True))

    def close(self) -> None:
        """End it, whatever runs in it."""
        subprocess.run(["tmux", "-S", self._socket, "kill-server"], capture_output=True, check=False)
