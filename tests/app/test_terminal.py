"""The app ends when its terminal is gone, also if nobody tells it."""

from __future__ import annotations

import os
import pty
import subprocess
import sys
from pathlib import Path

from tests.making import batch, recorded

PATIENCE_S = 30


def test_it_ends_with_its_terminal_though_nothing_signals_that(tmp_path: Path) -> None:
    recorded(tmp_path / "x.keel", batch([]))
    master, slave = pty.openpty()
    # A session without a controlling terminal is not signalled when the other end closes.
    app = subprocess.Popen(
        [sys.executable, "-m", "keel", "open", str(tmp_path / "x.keel")],
        stdin=slave, stdout=slave, stderr=slave, start_new_session=True, env={**os.environ, "TERM": "xterm-256color"},
    )  # fmt: skip
    os.close(slave)
    try:
        seen = b""
        while b"KEEL" not in seen:
            seen += os.read(master, 1 << 16)
        os.close(master)
        app.wait(PATIENCE_S)
    finally:
        app.kill()
        app.wait()
