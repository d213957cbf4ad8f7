"""Messages between a recorder and whoever works it, as two small files beside the recording.

``control.jsonl`` holds what people ask, a line each, only ever added to. ``status.json`` is what the recorder
says of itself, exchanged as a whole. Both survive the death of either side.
"""

from __future__ import annotations

import json
import time
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from keel.store.edge import at_the_edge
from keel.store.manifest import write_atomically


@dataclass(frozen=True)
class Status:
    """What a recorder says of itself.

    Attributes:
        frames, lost: How many it added, and how many of those handed over are in no recording.
        controls: How its source's stand.
        trouble: What is wrong now.
        skipped: How much came that is no frame.
        lost_at: How many were lost in the kernel, in Keel's buffer, at the disk, and before they came.
        buffer: How full Keel's buffer is, from 0 to 1.
        in_hz, disk_hz: Frames a second that are read, and written.
        clock_steps: How often the clock was set.
        holes: When sources were not there: start, end (None: still), buses, why.
        disk_left_s: How long the disk lasts at this rate; negative if that is not known.
        panel: The controls there are, as their declarations have them.
    """

    process: int = 0
    written_at: float = 0.0
    frames: int = 0
    lost: int = 0
    behind_s: float = 0.0
    controls: dict[str, Any] = field(default_factory=dict)
    refused: str = ""
    trouble: str = ""
    skipped: int = 0
    lost_at: dict[str, int] = field(default_factory=dict)
    buffer: float = 0.0
    in_hz: float = 0.0
    disk_hz: float = 0.0
    clock_steps: int = 0
    holes: list[dict[str, Any]] = field(default_factory=list)
    disk_left_s: float = -1.0
    panel: list[dict[str, Any]] = field(default_factory=list)


def write_status(folder: Path, status: Status) -> None:
    """Exchange the status; not made durable, it is only about now."""
    write_atomically(folder / "status.json", json.dumps(asdict(status)), durable=False)


def read_status(folder: Path) -> Status | None:
    """What the recorder said last, or None if nothing can be read."""
    try:
        found = json.loads((folder / "status.json").read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError):
        return None
    if not isinstance(found, dict) or "process" not in found:
        return None
    said = {}
    for name, default in asdict(Status()).items():
        # A newer recorder may say more, and something else than a recorder anything.
        kind: type | tuple[type, ...] = (int, float) if isinstance(default, float) else type(default)
        if isinstance(found.get(name), kind) and not isinstance(found[name], bool):
            said[name] = found[name]
    return Status(**said)


def ask_control(folder: Path, name: str, value: str) -> None:
    """Ask the recorder to work a control of its source.

    Raises:
        RecordingError: it cannot be asked.
    """
    line = json.dumps({"at": time.time(), "set": name, "to": value}) + "\n"
    path = folder / "control.jsonl"
    with at_the_edge(path, "be written"), path.open("ab", buffering=0) as file:
        file.write(line.encode())


class ControlReader:
    """Reads what was asked since the recorder began."""

    def __init__(self, folder: Path) -> None:
        self._path = folder / "control.jsonl"
        self._position = self._path.stat().st_size if self._path.exists() else 0

    def read_new(self) -> list[tuple[str, str]]:
        """Controls and values asked for since the last call; lines that cannot be read are passed over."""
        try:
            if self._path.stat().st_size == self._position:
                return []
            with self._path.open("rb") as file:
                file.seek(self._position)
                data = file.read()
        except OSError:
            return []
        whole = data[: data.rfind(b"\n") + 1]
        self._position += len(whole)
        asked = []
        for line in whole.splitlines():
            try:
                entry = json.loads(line)
                asked.append((str(entry["set"]), str(entry["to"])))
            except (ValueError, KeyError, TypeError):
                continue
        return asked
