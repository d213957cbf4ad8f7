"""Runs commands as a script would: in this process, where each begins at once, or apart, where that matters."""

from __future__ import annotations

import contextlib
import io
import signal
import subprocess
import sys
from pathlib import Path
from unittest.mock import patch

from keel import cli

LONGEST_S = 120
Done = subprocess.CompletedProcess


def _too_long(*_: object) -> None:
    raise TimeoutError("it went on and on")


def keel_bytes(*words: str | Path) -> Done[bytes]:
    """Run a command in this process, its output piped."""
    out, err = io.TextIOWrapper(io.BytesIO(), "utf-8"), io.TextIOWrapper(io.BytesIO(), "utf-8")
    arguments = ["keel", *map(str, words)]
    code = 0
    before = signal.signal(signal.SIGALRM, _too_long)
    signal.alarm(LONGEST_S)
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err), patch.object(sys, "argv", arguments):
        try:
            cli.main()
        except SystemExit as ended:
            code = ended.code if isinstance(ended.code, int) else int(ended.code is not None)
        finally:
            signal.alarm(0)
            signal.signal(signal.SIGALRM, before)
    out.flush()
    err.flush()
    return Done(arguments, code, *(stream.buffer.getvalue() for stream in (out, err)))


def keel(*words: str | Path) -> Done[str]:
    """As `keel_bytes`, and what it says is text."""
    done = keel_bytes(*words)
    return Done(done.args, done.returncode, done.stdout.decode(), done.stderr.decode())


def keel_apart(*words: str | Path, given: bytes | None = None) -> Done[bytes]:
    """Run a command in a process of its own, with something on its standard input."""
    command = [sys.executable, "-m", "keel", *map(str, words)]
    return subprocess.run(command, capture_output=True, input=given, check=False, timeout=LONGEST_S)
