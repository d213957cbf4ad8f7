"""The dictionaries that are used with a recording: it keeps a copy of each, so that it is read alike elsewhere."""

from __future__ import annotations

import json
import re
from pathlib import Path

from keel.errors import RecordingError
from keel.signals.dictionary import Dictionary
from keel.signals.loading import Loaded
from keel.signals.stored import messages_from_json, messages_to_json
from keel.store.edge import at_the_edge
from keel.store.manifest import DictionaryEntry, edit_manifest, write_atomically

FOLDER = "dictionaries"


def use_dictionary(folder: Path, loaded: Loaded, bus: str = "", first: bool = False) -> DictionaryEntry:
    """Use a dictionary with a recording from now on.

    Args:
        folder: The recording.
        loaded: The dictionary.
        bus: The bus it is for; empty for all.
        first: Whether it comes before the others that are used; else after them. One of the same name is exchanged.

    Raises:
        RecordingError: the recording has no such bus, or cannot be written.
    """
    with edit_manifest(folder) as manifest:
        if bus and bus not in manifest.bus_names:
            raise RecordingError(str(folder), f"has no bus “{bus}”; it has {', '.join(manifest.bus_names)}")
        entry = keep_copy(folder, loaded, bus)
        places = [i for i, d in enumerate(manifest.dictionaries) if (d.name, d.bus) == (entry.name, bus)]
        kept = [d for d in manifest.dictionaries if (d.name, d.bus) != (entry.name, bus)]
        at = 0 if first else places[0] if places else len(kept)
        manifest.dictionaries = [*kept[:at], entry, *kept[at:]]
    return entry


def keep_copy(folder: Path, loaded: Loaded, bus: str = "") -> DictionaryEntry:
    """Lay a copy of a dictionary into a recording; gives back the entry that is to stand in its manifest.

    Raises:
        RecordingError: it cannot be written.
    """
    name = loaded.path.stem
    file = f"{FOLDER}/{re.sub(r'[^A-Za-z0-9_-]', '_', name)}-{loaded.digest[:12]}.json"
    with at_the_edge(folder / file, "be written"):
        (folder / FOLDER).mkdir(exist_ok=True)
        write_atomically(folder / file, json.dumps(messages_to_json(loaded.dictionary), ensure_ascii=False))
    return DictionaryEntry(name, str(loaded.path.resolve()), loaded.digest, file, bus)


def load_copies(folder: Path, entries: list[DictionaryEntry]) -> tuple[list[Dictionary], list[str]]:
    """The dictionaries a recording uses, and sentences on those that cannot be read."""
    found, problems = [], []
    for entry in entries:
        try:
            data = json.loads((folder / entry.file).read_text(encoding="utf-8"))
            dictionary = messages_from_json(data, entry.name)
        except (OSError, AttributeError, KeyError, TypeError, ValueError, RecursionError) as error:
            problems.append(f"{folder / entry.file}: the copy of dictionary {entry.name} cannot be read ({error})")
            continue
        found.append(dictionary.on_bus(entry.bus) if entry.bus else dictionary)
    return found, problems
