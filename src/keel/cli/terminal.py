"""Putting the terminal right when the app ends in any odd way, as by a signal that no Python code survives.

A small process waits on a pipe that only the app holds. When the app leaves in order it says so; when the pipe closes
without a word the app is gone, and the process gives the terminal back as it was.
"""

from __future__ import annotations

import os
import signal
import sys
import termios

# Leave the alternate screen; show the cursor; no mouse, focus or paste reports; plain colours and keys.
# Source: ECMA-48 (SGR, DECSET as terminals take it) and the progressive keyboard enhancement of some terminals.
_RIGHT = (
    "\x1b[?1049l\x1b[?25h\x1b[?1000l\x1b[?1002l\x1b[?1003l\x1b[?1004l\x1b[?1006l\x1b[?1015l\x1b[?1016l\x1b[?2004l"
    "\x1b[?2026l\x1b[<u\x1b[0m\r"
)
_SAID = "keel ended unexpectedly; what was recorded is kept.\r\n"
_PASSED_BY = (
    signal.SIGINT,
    signal.SIGTERM,
    signal.SIGHUP,
    signal.SIGQUIT,
    signal.SIGTSTP,
    signal.SIGTTOU,
    signal.SIGTTIN,
)
_IN_ORDER = b"k"


class TerminalGuard:
    """Stands by while the app runs. Without a terminal it does nothing."""

    def __init__(self) -> None:
        self._pipe = self._process = -1

    def __enter__(self) -> TerminalGuard:
        if not (sys.stdin.isatty() and sys.stdout.isatty()):
            return self
        terminal = sys.stdin.fileno()
        before = termios.tcgetattr(terminal)
        reading, self._pipe = os.pipe()
        self._process = os.fork()
        if self._process == 0:
            os.close(self._pipe)
            _wait(reading, terminal, before)
        os.close(reading)
        return self

    def __exit__(self, *_: object) -> None:
        if self._process > 0:
            os.write(self._pipe, _IN_ORDER)
            os.close(self._pipe)
            os.waitpid(self._process, 0)


def _wait(pipe: int, terminal: int, before: list[object]) -> None:
    """Wait until the app is gone; never returns."""
    try:
        for number in _PASSED_BY:
            signal.signal(number, signal.SIG_IGN)
        if os.read(pipe, 1) != _IN_ORDER:
            os.write(sys.stdout.fileno(), _RIGHT.encode())
            termios.tcsetattr(terminal, termios.TCSADRAIN, before)  # type: ignore[arg-type]
            os.write(sys.stdout.fileno(), _SAID.encode())
    finally:
        # Nothing of the app's own may run here, whatever went wrong.
        os._exit(0)
