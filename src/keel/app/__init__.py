"""The Textual interface: one file per view, one per drawing. It shows and asks; the core does the work."""

from __future__ import annotations

from pathlib import Path
from subprocess import Popen


def run(folder: Path | None, recorder: Popen[bytes] | None) -> None:
    """Run the app on a recording, or on the shelf if there is none; ``recorder`` fills it meanwhile."""
    from keel.app.main import KeelApp

    KeelApp(folder, recorder).run()
