"""What becomes of a capture: imported into a recording, its frames, and what is said of them."""

from __future__ import annotations

import json
from pathlib import Path

from keel.formats.frame_lines import json_lines
from keel.formats.importing import import_files
from keel.model.frames import FrameBatch
from keel.store.recording import Recording, Snapshot


def imported(folder: Path, content: bytes, name: str = "made.cap") -> Snapshot:
    folder.mkdir(exist_ok=True)
    (folder / name).write_bytes(content)
    import_files([folder / name], folder / f"{name}.keel")
    return Recording(folder / f"{name}.keel").snapshot()


def frames_of(snapshot: Snapshot) -> FrameBatch:
    return snapshot.rows(0, snapshot.frames)


def said(snapshot: Snapshot) -> list[dict[str, object]]:
    """Each frame as JSON has it."""
    numbers = list(range(snapshot.frames))
    return [json.loads(line) for line in json_lines(frames_of(snapshot), snapshot.manifest.buses, numbers)]
