"""What goes out comes back: every form that says all of a frame gives the same frames again."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Sequence
from pathlib import Path
from urllib.parse import quote

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from keel.errors import InputError, UnknownFormat
from keel.formats import jsonlines, textlog
from keel.formats.exporting import WRITERS, Setting, open_writer, writer_name
from keel.formats.importing import import_files
from keel.formats.reader import Account
from keel.formats.registry import recognise
from keel.lines.can import with_wire_bits
from keel.model.bus import Bus, bus_name
from keel.model.frames import Flag, FrameBatch, batch_of, concat
from keel.model.identity import Form
from keel.model.safe_text import csv_cell, uncsv
from keel.sources.stream import StreamSource
from keel.store.recording import Recording
from tests.making import START, Row, batch, rows, same_frames

BUSES = ["a", "b"]


def written(
    path: Path,
    frames: FrameBatch,
    form: str,
    comments: dict[int, str] | None = None,
    buses: Sequence[str] = BUSES,
    losses: list[str] | None = None,
) -> Path:
    writer = open_writer(path, form, Setting([Bus(name) for name in buses], START, {}, ["made up"], comments or {}))
    half = len(frames) // 2
    writer.write(frames.slice(0, half), np.arange(half))
    writer.write(frames.slice(half, len(frames)), np.arange(half, len(frames)))
    writer.close()
    if losses is not None:
        losses += writer.losses.sentences()
    return path


def read_back(path: Path, buses: Sequence[str] = BUSES) -> tuple[FrameBatch, Account]:
    known, _ = recognise(path)
    account = Account()
    found = concat(list(known.read(path, account, lambda *_: None)))
    names = [buses.index(name) for name in account.bus_names]
    return FrameBatch(
        **{**{n: getattr(found, n) for n in found.__dataclass_fields__}, "bus": np.array(names, np.uint8)[found.bus]}
    ), account


@st.composite
def odd_frames(draw: st.DrawFn) -> FrameBatch:
    """Frames of every kind: remote, FD, error frames with details and without, faulty ones, long payloads."""
    n = draw(st.integers(1, 12))
    parts = []
    for i in range(n):
        form = draw(st.sampled_from([Form.BASE, Form.EXTENDED, Form.NONE]))
        flags = draw(st.sampled_from([0, 2, 4, 12, 20, 1, 32, 36, 33, 34]))
        size = draw(st.sampled_from([0, 1, 8, 12, 64, 70] if flags & Flag.FD else [0, 1, 2, 8, 9]))
        payload = draw(st.binary(min_size=size, max_size=size))
        ident = {Form.BASE: 0x7FF, Form.EXTENDED: 0x1FFFFFFF, Form.NONE: 0}[form]
        one = batch_of(
            np.array([START + i * 1001]), draw(st.integers(0, ident)), [payload],
            bus=draw(st.integers(0, 1)), form=form, flags=flags, faults=draw(st.sampled_from([0, 0, 1, 9, 1 << 14])),
            dlc=draw(st.sampled_from([None, 3, 8, 15])),
        )  # fmt: skip
        parts.append(with_wire_bits(one))
    return concat(parts)


@given(odd_frames())
@settings(max_examples=60, deadline=None)
def test_pcapng_says_every_frame_exactly(frames: FrameBatch) -> None:
    with tempfile.TemporaryDirectory() as folder:
        found, account = read_back(written(Path(folder) / "x.pcapng", frames, "pcapng"))
    assert same_frames(found, frames)
    assert account.notes == ["the capture says: made up"] and not account.skipped


@given(odd_frames())
@settings(max_examples=30, deadline=None)
def test_parquet_says_every_frame_exactly(frames: FrameBatch) -> None:
    with tempfile.TemporaryDirectory() as folder:
        assert same_frames(read_back(written(Path(folder) / "x.parquet", frames, "parquet"))[0], frames)


FORMS = ["pcapng", "parquet", "csv", "json", "log"]
odd_names = st.text(min_size=1, max_size=40).map(bus_name)
hard_names = st.sampled_from(
    [
        "engine bus",
        'a"b',
        "-",
        "=1+1",
        "'=1",
        "@x",
        " lead",
        "trail ",
        '"',
        '""',
        "a,b",
        "a;b",
        "#",
        "%",
        "%20",
        "0",
        "ä ö",
        "…",
    ]
)


@pytest.mark.parametrize("form", FORMS)
@given(odd_frames(), st.lists(odd_names | hard_names, min_size=2, max_size=2, unique=True))
@settings(max_examples=60, deadline=None)
def test_every_form_says_all_or_says_what_it_cannot(form: str, frames: FrameBatch, buses: list[str]) -> None:
    out, less = WRITERS[form].unsaid(frames)
    gone = np.logical_or.reduce(list(out.values())) if out else np.zeros(len(frames), np.bool_)
    losing = np.logical_or.reduce(list(less.values())) if less else np.zeros(len(frames), np.bool_)
    losses: list[str] = []
    with tempfile.TemporaryDirectory() as folder:
        path = written(Path(folder) / "x", frames, form, None, buses, losses)
        if gone.all():
            assert len(losses) >= 1
            return
        found, account = read_back(path, buses)
    assert account.skipped_total == account.missing == 0
    assert bool(losses) == bool(gone.any() or losing.any())
    kept = frames.take(np.flatnonzero(~gone))
    assert len(found) == len(kept) and found.time.tolist() == kept.time.tolist()
    exact = np.flatnonzero(~losing[~gone])
    assert same_frames(found.take(exact), kept.take(exact))


@given(st.text(max_size=60))
def test_names_come_out_of_each_escape_as_they_went_in(text: str) -> None:
    name = bus_name(text)
    assert uncsv(csv_cell(name)) == name
    assert textlog.unquote(quote(name, safe=textlog._SAFE)) == name


def test_a_recording_of_odd_names_comes_back_from_every_form(tmp_path: Path) -> None:
    names = ["engine bus", 'a"b', "-", "a,b"]
    frames = batch([Row(START + i * 1000, 0x100 + i, bytes([i]), bus=i % 4) for i in range(40)])
    for form in FORMS:
        path = written(tmp_path / f"x.{form}", frames, form, None, names)
        snapshot = Recording(import_files([path], tmp_path / f"{form}.keel").folder).snapshot()
        assert sorted(snapshot.manifest.bus_names) == sorted(names), form
        again = snapshot.rows(0, 99)
        assert [snapshot.manifest.bus_names[b] for b in again.bus] == [names[i % 4] for i in range(40)], form


def test_json_lines_that_are_no_frames_are_counted(tmp_path: Path) -> None:
    lines = [
        '{"t": 5, "payload": "01"}', "nonsense", "[1]", '{"t": "x", "payload": ""}', '{"t": 7, "payload": "0"}',
        '{"t": 8, "payload": "", "id": "18FE0017", "kind": "remote", "dlc": 3}', "", "[" * 5000,
        '{"t": 9, "payload": "", "faults": ["nosuch"]}',
    ]  # fmt: skip
    path = tmp_path / "x.jsonl"
    path.write_text("\n".join(lines))
    known, _ = recognise(path)
    account = Account()
    found = concat(list(known.read(path, account, lambda *_: None)))
    assert found.time.tolist() == [5, 8] and found.form.tolist() == [Form.NONE, Form.EXTENDED]
    assert account.skipped == {jsonlines.NO_OBJECT: 3, jsonlines.NO_FRAME: 3}
    assert account.examples == {jsonlines.NO_OBJECT: "line 2", jsonlines.NO_FRAME: "line 4"}


@given(rows(30))
@settings(max_examples=30, deadline=None)
def test_csv_says_every_frame_exactly(found: list[Row]) -> None:
    frames = batch(found)
    with tempfile.TemporaryDirectory() as folder:
        path = written(Path(folder) / "x.csv", frames, "csv")
        known, why = recognise(path)
        again, account = read_back(path)
    assert known.name == "delimited text" and "comma-separated" in why
    assert not account.skipped
    assert same_frames(again, frames)


@given(rows(30))
@settings(max_examples=20, deadline=None)
def test_a_log_says_every_whole_frame(found: list[Row]) -> None:
    frames = batch([Row(r.time, r.ident, r.payload, r.bus, r.form, r.flags & ~int(Flag.TX)) for r in found])
    with tempfile.TemporaryDirectory() as folder:
        again, _ = read_back(written(Path(folder) / "x.log", frames, "log"))
    assert same_frames(again, frames)


def test_comments_of_frames_go_out_and_come_back(tmp_path: Path) -> None:
    frames = batch([Row(START + i, 0x100, b"x") for i in range(5)])
    path = written(tmp_path / "x.pcapng", frames, "pcapng", {3: "here it hung"})
    done = import_files([path, path], tmp_path / "r.keel")
    assert [(c.number, c.text) for c in Recording(done.folder).manifest.comments] == [
        (3, "here it hung"),
        (8, "here it hung"),
    ]


def test_the_ending_tells_the_form() -> None:
    assert writer_name(Path("x.PCAPNG")) == "pcapng" and writer_name(Path("x.txt")) == "log"
    assert writer_name(Path("x"), "csv") == "csv"
    with pytest.raises(InputError, match="names no form"):
        writer_name(Path("x.doc"))
    with pytest.raises(InputError, match="no such form"):
        writer_name(Path("x"), "doc")


@pytest.mark.parametrize("form", ["pcapng", "log", "json"])
@pytest.mark.parametrize("piece", [1, 7, 1000])
def test_a_pipe_gives_what_the_file_gives_however_it_is_cut(tmp_path: Path, form: str, piece: int) -> None:
    frames = batch([Row(START + i * 1000, 0x100 + i % 3, bytes([i % 256]), bus=i % 2) for i in range(40)])
    content = written(tmp_path / "x", frames, form).read_bytes()
    reading, writing = os.pipe()
    source = StreamSource(reading)
    found = []
    for at in range(0, len(content), piece):
        os.write(writing, content[at : at + piece])
        found.append(source.poll())
    os.close(writing)
    while not source.ended:
        found.append(source.poll())
    os.close(reading)
    assert same_frames(concat([f for f in found if len(f)]), frames)
    assert [bus.name for bus in source.buses] == BUSES and source.title.startswith("pipe: ")


def test_a_pipe_of_something_else_is_refused() -> None:
    reading, writing = os.pipe()
    os.write(writing, b"hello, this is nothing")
    os.close(writing)
    source = StreamSource(reading)
    with pytest.raises(UnknownFormat):
        for _ in range(3):
            source.poll()
    os.close(reading)
