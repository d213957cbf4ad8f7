"""A manifest that somebody else wrote into: whatever stands where, it is read or refused in one sentence."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from keel.errors import KeelError
from keel.measure.census import census_of
from keel.model.fields import BitField
from keel.model.identity import Form
from keel.signals.dictionary import Dictionary, Message, TextField
from keel.signals.signal import Signal
from keel.store.library import shelf
from keel.store.manifest import FILE, edit_manifest
from keel.store.recording import Recording
from tests.making import enriched, find

ODD: list[object] = ["odd", -1, 1e300, None, [], {}, [[1]], True, "\x1b[31m", 2**70]
BOOK = Dictionary(
    (
        Message(
            "a",
            Form.BASE,
            0x100,
            "Pump",
            (Signal("level", BitField(0, 8), 0.5, unit="mm", texts={1: "low"}, absent=((255, 255),)),),
            text_fields=(TextField("depth", "DBT,([0-9.]+)"),),
        ),
    )
)


@pytest.fixture
def rich(tmp_path: Path) -> Path:
    """A recording whose manifest has something of everything."""
    folder = enriched(tmp_path / "rich.keel", BOOK)
    with edit_manifest(folder) as manifest:
        manifest.notes.append("a note")
        manifest.nominal[2**40] = 10
    return folder


def places(value: Any, path: tuple[str | int, ...] = ()) -> Iterator[tuple[str | int, ...]]:
    """Where anything stands in some JSON."""
    inside = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, under in inside:
        yield (*path, key)
        yield from places(under, (*path, key))


def put(data: Any, path: tuple[str | int, ...], value: object) -> Any:
    """The same JSON with another value in one place."""
    changed = json.loads(json.dumps(data))
    at = changed
    for step in path[:-1]:
        at = at[step]
    at[path[-1]] = value
    return changed


def looked_at(folder: Path) -> str:
    """What a reader says of a recording; only what Keel raises on purpose may be raised."""
    shelf(folder.parent)
    try:
        snapshot = Recording(folder).snapshot()
        census = census_of(find(snapshot))
        names = [bus.name for bus in snapshot.manifest.buses]
        snapshot.rows(0, min(snapshot.frames, 100))
        return f"{snapshot.frames} {len(census)} {len(names)} {snapshot.problems}"
    except KeelError as error:
        return str(error)


@pytest.mark.parametrize("odd", ODD, ids=repr)
def test_anything_anywhere_in_a_manifest_is_read_or_refused(rich: Path, odd: object) -> None:
    data = json.loads((rich / FILE).read_text())
    for path in places(data):
        (rich / FILE).write_text(json.dumps(put(data, path, odd)))
        said = looked_at(rich)
        assert said and "\x1b" not in said, path


def test_anything_missing_in_a_manifest_is_read_or_refused(rich: Path) -> None:
    data = json.loads((rich / FILE).read_text())
    for path in places(data):
        if isinstance(path[-1], str):
            changed = json.loads(json.dumps(data))
            at = changed
            for step in path[:-1]:
                at = at[step]
            del at[path[-1]]
            (rich / FILE).write_text(json.dumps(changed))
            assert looked_at(rich), path


@pytest.mark.parametrize("content", ["", "{", "[]", "7", "null", '"text"', "[" * 100_000, "\ufeff{}", "{} {}"])
def test_what_is_no_manifest_at_all_is_refused_in_one_sentence(rich: Path, content: str) -> None:
    (rich / FILE).write_text(content)
    said = looked_at(rich)
    assert str(rich) in said and "\n" not in said
