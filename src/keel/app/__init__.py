"""The Textual interface: one file per view, one per drawing. It shows and asks; the core does the work."""

from __future__ import annotations

from pathlib import Path
from subprocess import Popen


def run(folder: Path | None, recorder: Popen[bytes] | None, view: str = "") -> None:
    """Run the app on a recording, or on the shelf if there is none; ``recorder`` fills it meanwhile.

    Args:
        folder: The recording.
        recorder: What records it.
        view: The view that is opened; the first one if none is named.
    """
    import sys

    from keel.app.main import KeelApp

    # The desk's thread computes while the interface answers: it shall not hold the interpreter for long.
    sys.setswitchinterval(0.0005)
    KeelApp(folder, recorder, view).run()
