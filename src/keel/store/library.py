"""Where recordings lie when nobody says otherwise, and what lies there."""

from __future__ import annotations

import os
import time
from dataclasses import dataclass
from pathlib import Path

from platformdirs import user_data_path

from keel.errors import RecordingError
from keel.model.units import NS_PER_S
from keel.store.edge import at_the_edge
from keel.store.journal import JournalReader
from keel.store.locks import is_being_written
from keel.store.manifest import load_manifest
from keel.store.sealing import journal_numbers, journal_path

SUFFIX = ".keel"


def home() -> Path:
    """The folder for recordings: ``KEEL_HOME`` or the user's data folder."""
    given = os.environ.get("KEEL_HOME")
    return Path(given) if given else user_data_path("keel") / "recordings"


def find_recording(given: Path) -> Path:
    """The recording meant: a path, a path without its ending, or a name on the shelf."""
    if not given.name:
        # The folder one is in, or the root: whether it is one is seen when it is opened.
        return given
    try:
        for path in (given, given.with_name(given.name + SUFFIX), home() / given, home() / (given.name + SUFFIX)):
            if path.is_dir():
                return path
    except ValueError:
        # No file can be called so.
        return given
    return given


def with_suffix(path: Path) -> Path:
    """The path of a recording that is to be made, its ending put on.

    Raises:
        RecordingError: no recording can be called so.
    """
    if not path.name:
        raise RecordingError(str(path), "is no name for a recording")
    return path if path.suffix == SUFFIX else path.with_name(path.name + SUFFIX)


def new_name(stem: str) -> Path:
    """A path for a new recording in `home`, named after the moment."""
    path = home() / f"{stem}-{time.strftime('%Y%m%d-%H%M%S')}{SUFFIX}"
    path.parent.mkdir(parents=True, exist_ok=True)
    count = 2
    while path.exists():
        path = path.with_name(f"{path.stem}-{count}{SUFFIX}")
        count += 1
    return path


def folder_of(file: Path) -> Path:
    """Where the recording of a capture lies that is imported to be looked at: the same while the file stays the same.

    Raises:
        RecordingError: there is no such file.
    """
    with at_the_edge(file, "be read"):
        stat = file.stat()
    stamp = f"{stat.st_size:x}{stat.st_mtime_ns:x}"[-10:]
    return home() / f"{file.stem}-{stamp}{SUFFIX}"


@dataclass(frozen=True)
class Shelved:
    """A recording as a list shows it. ``problem`` says why it cannot be opened, if so."""

    folder: Path
    name: str
    created: int = 0
    frames: int = 0
    seconds: float = 0.0
    source: str = ""
    marks: int = 0
    live: bool = False
    problem: str = ""


def look(folder: Path) -> Shelved:
    """What a list says of one recording; rows in the journal are counted by their headers."""
    try:
        manifest = load_manifest(folder)
    except RecordingError as error:
        return Shelved(folder, folder.stem, problem=error.what)
    sealed = {s.number for s in manifest.segments}
    frames = sum(s.rows for s in manifest.segments)
    start = min((s.start for s in manifest.segments), default=0)
    end = max((s.end for s in manifest.segments), default=0)
    for number in journal_numbers(folder):
        if number not in sealed:
            reader = JournalReader(journal_path(folder, number))
            for batch in reader.read_new():
                frames += len(batch)
                start = min(start or int(batch.time[0]), int(batch.time[0]))
                end = max(end, int(batch.time[-1]))
            reader.close()
    return Shelved(
        folder,
        manifest.name,
        manifest.created,
        frames,
        (end - start) / NS_PER_S,
        manifest.source,
        len(manifest.marks),
        is_being_written(folder),
    )


def shelf(folder: Path | None = None) -> list[Shelved]:
    """The recordings of a folder, newest first."""
    where = folder or home()
    if not where.is_dir():
        return []
    found = [look(path) for path in where.iterdir() if path.suffix == SUFFIX and not path.name.startswith(".")]
    return sorted(found, key=lambda s: (-s.created, s.name))
