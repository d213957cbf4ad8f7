"""What goes wrong, in a sentence; what nobody foresaw is written down in a file whose place is said."""

from __future__ import annotations

import time
import traceback
from pathlib import Path

from platformdirs import user_log_path

from keel.errors import KeelError

MOST_BYTES = 1_000_000


class NothingYet(KeelError):
    """Nothing is shown yet that could be worked on."""


def log_file() -> Path:
    """Where unforeseen errors are written down."""
    return user_log_path("keel") / "keel.log"


def sentence_of(error: BaseException) -> str:
    """What went wrong, for a person; what Keel did not foresee is logged, and the log's place said."""
    if isinstance(error, KeelError):
        return str(error)
    if isinstance(error, OSError) and error.strerror:
        # What the operating system refused: the sentence is its own.
        return f"{error.filename}: {error.strerror}" if error.filename else error.strerror
    said = f"{type(error).__name__}: {error}" if str(error) else type(error).__name__
    place = _log(error)
    more = f"; details are in {place}" if place is not None else ""
    return f"something went wrong that Keel did not foresee ({said}){more}"


def _log(error: BaseException) -> Path | None:
    """The file it was written to; None if it could not be."""
    path = log_file()
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        mode = "w" if path.exists() and path.stat().st_size > MOST_BYTES else "a"
        with path.open(mode, encoding="utf-8") as file:
            file.write(time.strftime("--- %Y-%m-%d %H:%M:%S\n"))
            file.writelines(traceback.format_exception(error))
    except OSError:
        return None
    return path
