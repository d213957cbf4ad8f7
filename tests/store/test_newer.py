"""A manifest that a later Keel added to: it is read, and what was added is there after every edit."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from keel.model.fields import BitField
from keel.model.identity import Form
from keel.model.span import Mark
from keel.signals.dictionary import Dictionary, Message, TextField
from keel.signals.signal import Signal
from keel.store.manifest import FILE, DictionaryEntry, edit_manifest
from tests.making import START, enriched

LEVEL, DEPTH = Signal("level", BitField(0, 8)), TextField("depth", "D([0-9]+)")
BOOK = Dictionary((Message("a", Form.BASE, 0x100, "Pump", (LEVEL,), text_fields=(DEPTH,)),))
PARTS = ("buses", "segments", "marks", "comments", "asks", "readings", "pages", "dictionaries")


def rich(folder: Path) -> Path:
    with edit_manifest(enriched(folder, BOOK)) as manifest:
        manifest.dictionaries.append(DictionaryEntry("d", "d.dbc", "0", "d.json"))
    return folder


def objects(data: dict[str, Any]) -> list[dict[str, Any]]:
    """The manifest, and whatever in it has keys."""
    (message,) = data["dictionary"]
    return [data, *(data[part][0] for part in PARTS), message, message["signals"][0], message["text_fields"][0]]


def test_what_a_later_keel_added_at_any_place_outlives_every_edit(tmp_path: Path) -> None:
    folder = rich(tmp_path / "r.keel")
    data = json.loads((folder / FILE).read_text())
    for number, found in enumerate(objects(data)):
        found["later"] = {"number": number, "more": [1, "two"]}
        found["more"] = "a word that is ours inside"
    (folder / FILE).write_text(json.dumps(data))
    for _ in range(2):
        with edit_manifest(folder) as manifest:
            manifest.marks.append(Mark(len(manifest.marks) + 1, START + 5))
            manifest.dictionary = manifest.dictionary.with_signal("a", Form.BASE, 0x100, Signal("flow", BitField(8, 8)))
    after = json.loads((folder / FILE).read_text())
    assert len(after["marks"]) == 3 and len(after["dictionary"][0]["signals"]) == 2
    for before, found in zip(objects(data), objects(after), strict=True):
        assert (found["later"], found["more"]) == (before["later"], before["more"])


def test_what_is_as_an_older_keel_knows_it_is_written_so(tmp_path: Path) -> None:
    folder = rich(tmp_path / "r.keel")
    bus = json.loads((folder / FILE).read_text())["buses"][0]
    assert set(bus) == {"name", "bit_rate", "fast_bit_rate"}
