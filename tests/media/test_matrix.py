"""Every kind of line through everything: asks, exports, JSON, commands; with made-up frames of all its forms."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from keel.ask.completion import complete
from keel.ask.headers import FIELDS
from keel.ask.names import scene_of
from keel.ask.narrowing import of_key_among
from keel.formats.exporting import WRITERS, Setting, open_writer
from keel.formats.importing import import_files
from keel.media.every import MEDIA, fault_sentence, form_of, headers_of, key_words
from keel.media.header import HeaderField
from keel.media.medium import Medium
from keel.model.bus import Bus
from keel.model.faults import SPOILS_NOTHING, Fault, fault_words
from keel.model.frames import FrameBatch, batch_of
from keel.store.manifest import Manifest
from keel.store.recording import Recording, Snapshot
from keel.store.writer import Writer, create_recording
from tests.command import keel
from tests.making import START, find

FRAMES = 240
ALL = pytest.mark.parametrize("medium", MEDIA, ids=[medium.name for medium in MEDIA])


def made_up(medium: Medium, bus: int = 0, seed: int = 3) -> FrameBatch:
    """Frames of all forms of a medium: headers and payloads of chance, now and then a fault it can have."""
    draw = np.random.default_rng(seed)
    n = np.arange(FRAMES)
    forms = [form.number for form in medium.forms]
    form = np.array(forms, np.uint8)[n % len(forms)]
    most = np.array([form_of(int(f)).most for f in form], np.uint64)
    ident = (n % 7 // 2 * 3 + 1).astype(np.uint64) * np.uint64(37) & most
    payloads = [bytes([i % 256, i // 5 % 256]) + bytes(draw.integers(0, 256, i % 6, np.uint8)) for i in range(FRAMES)]
    kinds = [int(fault) for fault in medium.faults] or [0]
    faults = [kinds[i // 30 % len(kinds)] if i % 30 == 4 else 0 for i in range(FRAMES)]
    header = draw.integers(0, 256, (FRAMES, medium.header_bytes)).astype(np.uint8) if medium.header_bytes else None
    return batch_of(START + n * 10_000_000, ident, payloads, bus=bus, form=form, faults=faults, header=header)


def recording(folder: Path, medium: Medium) -> Snapshot:
    create_recording(folder, Manifest(folder.stem, "made up", START, [Bus("line", medium=medium.name)]))
    writer = Writer(folder, journal=False)
    writer.append(made_up(medium))
    writer.close()
    return Recording(folder).snapshot()


def said_in_ask(field: HeaderField, number: int) -> str:
    """A number of a field as an ask takes it."""
    if field.shown == "yes":
        return "yes" if number else "no"
    return field.texts.get(number) or (field.text(number) if field.shown in ("hex", "bytes") else str(number))


@ALL
def test_each_identifier_is_found_by_what_it_is_called(tmp_path: Path, medium: Medium) -> None:
    snapshot = recording(tmp_path / "r.keel", medium)
    keys = snapshot.rows(0, FRAMES).keys()
    known = frozenset(keys.tolist())
    for key in known:
        ask = str(of_key_among(key, "line", known))
        found = find(snapshot, ask)
        assert found.numbers(0, len(found)).tolist() == np.flatnonzero(keys == np.uint64(key)).tolist(), ask
        assert key_words(key)
    assert len(find(snapshot, "data")) == FRAMES and len(find(snapshot, "bus:line not data")) == 0


@ALL
def test_each_field_of_the_header_is_asked_for_and_said(tmp_path: Path, medium: Medium) -> None:
    snapshot = recording(tmp_path / "r.keel", medium)
    frames, scene = snapshot.rows(0, FRAMES), scene_of(snapshot)
    said = headers_of(frames, snapshot.manifest.buses)
    assert all((one is None) == (not medium.fields) for one in said)
    for field in medium.fields:
        assert frames.header is not None
        numbers, there = field.numbers(frames.header)
        row = int(np.flatnonzero(there)[0])
        shown = next(one for one in said if one is not None)
        assert set(shown) == {one.name for one in medium.fields}
        word = field.name if field.name in FIELDS else f"{medium.name}.{field.name}"
        number = int(numbers[row])
        text = said_in_ask(field, number)
        found = find(snapshot, f"{word}:{text}")
        expected = np.flatnonzero(there & (numbers == numbers[row]))
        assert found.numbers(0, len(found)).tolist() == expected.tolist(), f"{word}:{text}"
        assert f"{word}:" in complete(word[:-1], scene) or word in FIELDS
        if field.is_number:
            more = find(snapshot, f"{word}>={said_in_ask(field, number)}")
            assert len(more) == int(np.count_nonzero(there & (numbers >= number)))


@ALL
def test_each_fault_has_a_sentence_and_is_asked_for(tmp_path: Path, medium: Medium) -> None:
    snapshot = recording(tmp_path / "r.keel", medium)
    frames = snapshot.rows(0, FRAMES)
    for fault in medium.faults:
        expected = int(np.count_nonzero(frames.faults & np.uint64(fault)))
        assert len(find(snapshot, f"fault:{fault.word}")) == expected
        assert fault_sentence(medium, fault).startswith(f"{fault.title}: ")
    assert fault_sentence(medium, Fault.TIMING)


@ALL
@pytest.mark.parametrize("form", [name for name in WRITERS if name != "log"])
def test_every_form_takes_it_and_says_what_it_cannot(tmp_path: Path, medium: Medium, form: str) -> None:
    snapshot = recording(tmp_path / "r.keel", medium)
    frames, buses = snapshot.rows(0, FRAMES), snapshot.manifest.buses
    path = tmp_path / f"out{WRITERS[form].endings[0]}"
    writer = open_writer(path, form, Setting(buses, START, {}, [], {}))
    writer.write(frames, np.arange(FRAMES))
    writer.close()
    assert path.stat().st_size
    if form in ("pcapng", "parquet"):
        import_files([path], tmp_path / "again.keel")
        again = Recording(tmp_path / "again.keel").snapshot()
        assert [bus.medium for bus in again.manifest.buses] == [medium.name] and again.frames == FRAMES
        found = again.rows(0, FRAMES)
        # What chance put into headers is not what a capture would say; bytes and times are the same all the same.
        assert [found.payload(i) for i in range(FRAMES)] == [frames.payload(i) for i in range(FRAMES)]
        assert np.array_equal(found.time, frames.time)
        if form == "parquet":
            assert np.array_equal(found.keys(), frames.keys()) and np.array_equal(found.faults, frames.faults)


@ALL
def test_every_command_takes_it(tmp_path: Path, medium: Medium) -> None:
    folder = tmp_path / "r.keel"
    recording(folder, medium)
    (tmp_path / "marks.csv").write_text("0.5,0.9\n1.5,1.9\n")
    commands: tuple[tuple[str | Path, ...], ...] = (
        ("frames", folder), ("frames", folder, "--json"), ("frames", folder, "--csv"), ("stats", folder),
        ("stats", folder, "--json"), ("bus", folder), ("hunt", folder, "--structure"),
        ("hunt", folder, "--marks", tmp_path / "marks.csv"), ("hunt", folder, "--value", "7"),
        ("compare", folder, folder),
        ("verify", folder), ("draw", "load", folder, "-o", tmp_path / "load.svg"),
        ("draw", "cycles", folder, "-o", tmp_path / "cycles.svg"),
    )  # fmt: skip
    for command in commands:
        done = keel(*command)
        assert done.returncode in (0, 1) and "did not foresee" not in done.stderr, (command, done.stderr)
    rows = [json.loads(line) for line in keel("frames", folder, "--json").stdout.splitlines()]
    assert {row["medium"] for row in rows} == {medium.name} and len(rows) == FRAMES
    report = json.loads(keel("stats", folder, "--json").stdout)
    assert (report["buses"][0]["load_mean"] is None) == (not medium.has_load)
    numbers = [field.name for field in medium.fields if field.is_number and field.when is None]
    if numbers:
        harmless = set(fault_words(SPOILS_NOTHING))
        done = keel("signals", folder, "--signal", f"*.{numbers[0]}", "--json")
        assert len(done.stdout.splitlines()) == sum(set(row["faults"]) <= harmless for row in rows)
        drawn = keel("draw", "values", folder, "--signal", f"*.{numbers[0]}", "-o", tmp_path / "v.svg")
        assert drawn.returncode == 0 and (tmp_path / "v.svg").stat().st_size
