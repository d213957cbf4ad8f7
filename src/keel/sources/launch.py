"""Starting a recorder as a process of its own. It ends with the one that started it."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from pathlib import Path

ENDING_S = 30.0
"""So long a recorder may take to write what it has."""


def launch(source: str, folder: Path, seed: int = 1, speed: float = 1.0) -> subprocess.Popen[bytes]:
    """Record from a source into a new recording, beside this process."""
    options = ["--seed", str(seed), "--speed", str(speed), "--stop-with", str(os.getpid())]
    return subprocess.Popen(
        [sys.executable, "-m", "keel", "record", "--from", source, str(folder), *options],
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        start_new_session=True,
    )


def end(recorder: subprocess.Popen[bytes]) -> None:
    """Have it write what it has, and end."""
    recorder.send_signal(signal.SIGTERM)
    recorder.wait(timeout=ENDING_S)
