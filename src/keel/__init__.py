"""Keel records vehicle and device buses and pinpoints which field carries a value or a fault.

As a library:

    import keel

    recording = keel.open("tern.keel")
    faulty = recording.frames(ask="id:1A0 fault")
    table = faulty.to_arrow()
"""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING

from keel.errors import (
    AskError,
    ControlError,
    FieldError,
    InputError,
    KeelError,
    NotARecording,
    RecordingBusy,
    RecordingDamaged,
    RecordingError,
    UnknownFormat,
)

if TYPE_CHECKING:
    from keel.opened import Opened

__version__ = "0.2.0"
__all__ = [
    "AskError",
    "ControlError",
    "FieldError",
    "InputError",
    "KeelError",
    "NotARecording",
    "RecordingBusy",
    "RecordingDamaged",
    "RecordingError",
    "UnknownFormat",
    "__version__",
    "open",
]


def open(path: str | os.PathLike[str]) -> Opened:
    """A recording for reading, also while it grows; by its path or its name on the shelf.

    Raises:
        NotARecording: there is none.
        RecordingError: it is packed, or of another version.
    """
    from keel.opened import Opened

    return Opened(path)


def _find_room_for_compiled_code() -> None:
    """Where neither the program's folder nor the user's can be written, compiled parts are kept for the time being."""
    if "NUMBA_CACHE_DIR" in os.environ or os.access(Path(__file__).parent, os.W_OK):
        return
    place = Path.home() / ".cache"
    while not place.exists():
        place = place.parent
    if not os.access(place, os.W_OK):
        import tempfile

        # Of its own: nobody else may put code there.
        os.environ["NUMBA_CACHE_DIR"] = tempfile.mkdtemp(prefix="keel-")


_find_room_for_compiled_code()
