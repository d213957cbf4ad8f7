"""What goes out comes back: every form that says all of a frame gives the same frames again."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from keel.errors import InputError, UnknownFormat
from keel.formats.exporting import Setting, open_writer, writer_name
from keel.formats.importing import import_files
from keel.formats.reading import Account
from keel.formats.registry import recognise
from keel.lines.can import with_wire_bits
from keel.model.frames import Flag, FrameBatch, batch_of, concat
from keel.model.identity import Form
from keel.sources.pipe import PipeSource
from keel.store.recording import Recording
from tests.making import START, Row, batch, rows, same_frames

BUSES = ["a", "b"]


def written(path: Path, frames: FrameBatch, form: str, comments: dict[int, str] | None = None) -> Path:
    writer = open_writer(path, form, Setting(BUSES, START, {}, ["made up"], comments or {}))
    half = len(frames) // 2
    writer.write(frames.slice(0, half), np.arange(half))
    writer.write(frames.slice(half, len(frames)), np.arange(half, len(frames)))
    writer.close()
    return path


def read_back(path: Path) -> tuple[FrameBatch, Account]:
    known, _ = recognise(path)
    account = Account()
    found = concat(list(known.read(path, account, lambda *_: None)))
    names = [BUSES.index(name) for name in account.bus_names]
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


@pytest.mark.parametrize("form", ["pcapng", "log"])
@pytest.mark.parametrize("piece", [1, 7, 1000])
def test_a_pipe_gives_what_the_file_gives_however_it_is_cut(tmp_path: Path, form: str, piece: int) -> None:
    frames = batch([Row(START + i * 1000, 0x100 + i % 3, bytes([i % 256]), bus=i % 2) for i in range(40)])
    content = written(tmp_path / "x", frames, form).read_bytes()
    reading, writing = os.pipe()
    source = PipeSource(reading)
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
    source = PipeSource(reading)
    with pytest.raises(UnknownFormat):
        for _ in range(3):
            source.poll()
    os.close(reading)
