"""The one edge where what the operating system refuses becomes an error of Keel's."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from keel.errors import RecordingError


@contextmanager
def at_the_edge(path: Path, what: str) -> Iterator[None]:
    """Turns an `OSError` into a sentence on a path.

    Args:
        path: What is read or written.
        what: What then cannot be done with it: "be written".

    Raises:
        RecordingError: the operating system refused.
    """
    try:
        yield
    except RecordingError:
        raise
    except OSError as error:
        raise RecordingError(str(path), f"cannot {what} ({error.strerror or error})") from None
