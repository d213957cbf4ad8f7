"""Starting a recorder as a process of its own. It ends with the one that started it."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path

ENDING_S = 30.0
"""So long a recorder may take to write what it has."""


def launch(sources: Sequence[str], folder: Path) -> subprocess.Popen[bytes]:
    """Record from sources, as people name them, into a new recording, beside this process."""
    named = [word for source in sources for word in ("--from", source)]
    return subprocess.Popen(
        [sys.executable, "-m", "keel", "record", str(folder), *named, "--stop-with", str(os.getpid())],
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        start_new_session=True,
    )


def end(recorder: subprocess.Popen[bytes]) -> None:
    """Have it write what it has, and end."""
    recorder.send_signal(signal.SIGTERM)
    recorder.wait(timeout=ENDING_S)
