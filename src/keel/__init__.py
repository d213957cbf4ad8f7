"""Keel records vehicle and device buses and pinpoints which field carries a value or a fault.

As a library:

    import keel

    recording = keel.open("tern.keel")
    faulty = recording.frames(ask="id:1A0 fault")
    table = faulty.to_arrow()
"""

from __future__ import annotations

from os import PathLike
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from keel.opened import Opened

__version__ = "0.2.0"
__all__ = ["__version__", "open"]


def open(path: str | PathLike[str]) -> Opened:
    """A recording for reading, also while it grows; by its path or its name on the shelf.

    Raises:
        NotARecording: there is none.
        RecordingError: it is packed, or of another version.
    """
    from keel.opened import Opened

    return Opened(path)
