"""The library face: what a script gets."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings

import keel
from keel import errors
from keel.errors import AskError, NotARecording
from keel.model.frames import FrameBatch
from keel.store.writer import Writer
from tests.making import START, Row, batch, recorded, rows, same_frames


@given(found=rows(50, ordered=False))
@settings(max_examples=20, deadline=None)
def test_numpy_gives_every_frame_exactly(tmp_path_factory: pytest.TempPathFactory, found: list[Row]) -> None:
    folder = tmp_path_factory.mktemp("library") / "r.keel"
    half = len(found) // 2
    recorded(folder, *(batch(part) for part in (found[:half], found[half:]) if part))
    frames = keel.open(folder).frames()
    assert len(frames) == len(found)
    assert same_frames(FrameBatch(**frames.to_numpy()), batch(found))


def test_arrow_has_names_times_and_payloads(tmp_path: Path) -> None:
    found = [Row(START + i, 0x1A0 + i % 2, bytes([i]), bus=i % 2, faults=int(i == 4)) for i in range(6)]
    recorded(tmp_path / "r.keel", batch(found))
    frames = keel.open(str(tmp_path / "r.keel")).frames(ask="id:1A0 fault")
    table = frames.to_arrow()
    assert table["payload"].to_pylist() == [b"\x04"]
    assert table["bus"].to_pylist() == ["a"]
    assert table["time"].cast(pa.int64()).to_pylist() == [START + 4]
    assert frames.numbers.tolist() == [4]
    # Any Arrow library takes them as they are.
    assert pa.table(keel.open(tmp_path / "r.keel").frames()).num_rows == 6


def test_a_span_in_seconds(tmp_path: Path) -> None:
    recorded(tmp_path / "r.keel", batch([Row(START + i * 500_000_000, 1) for i in range(10)]))
    opened = keel.open(tmp_path / "r.keel")
    assert opened.frames(start=1.0, end=2.0).numbers.tolist() == [2, 3]
    assert opened.frames(start=4.5).numbers.tolist() == [9]
    assert opened.stats("at:..1s")["identifiers"][0]["frames"] == 3


def test_a_script_follows_what_a_recorder_adds(tmp_path: Path) -> None:
    folder = tmp_path / "r.keel"
    recorded(folder, batch([Row(START, 1)]))
    opened = keel.open(folder)
    writer = Writer(folder)
    writer.append(batch([Row(START + 1, 2), Row(START + 2, 1)]))
    assert len(opened) == 1 and opened.refresh() and len(opened) == 3
    assert opened.frames("id:001").numbers.tolist() == [0, 2]
    assert not opened.refresh()
    writer.close()


def test_batches_put_together_are_the_whole(tmp_path: Path) -> None:
    found = [Row(START + i, 1 + i % 3, bytes([i])) for i in range(50)]
    recorded(tmp_path / "r.keel", batch(found[:20]), batch(found[20:]))
    frames = keel.open(tmp_path / "r.keel").frames("id:002")
    assert np.concatenate([b.time for b in frames.batches(rows=4)]).tolist() == [r.time for r in found if r.ident == 2]


def test_errors_are_the_known_ones(tmp_path: Path) -> None:
    with pytest.raises(NotARecording):
        keel.open(tmp_path / "nothing.keel")
    recorded(tmp_path / "r.keel", batch([Row(START, 1)]))
    with pytest.raises(AskError):
        keel.open(tmp_path / "r.keel").frames("idd:1")


def test_odd_arguments_are_taken_or_refused_clearly(tmp_path: Path) -> None:
    recorded(tmp_path / "r.keel", batch([Row(START + i * 1_000_000, 0x100, b"x") for i in range(100)]))
    recording = keel.open(tmp_path / "r.keel")
    inf, nan = float("inf"), float("nan")
    assert len(recording.frames(ask=None)) == len(recording.frames(start=-inf, end=inf)) == 100
    assert len(recording.frames(end=1e300)) == 100 and len(recording.frames(start=inf)) == 0
    assert len(recording.frames(start=0.05, end=0.01)) == 0
    assert recording.stats(ask=None)["identifiers"][0]["frames"] == 100
    for start, end in ((nan, None), (None, nan)):
        with pytest.raises(keel.InputError, match="nan is no time"):
            recording.frames(start=start, end=end)
    for count in (0, -5):
        with pytest.raises(keel.InputError, match="a number of frames"):
            next(recording.frames().batches(count))
    with pytest.raises(keel.AskError):
        recording.frames("faul")
    with pytest.raises(keel.NotARecording):
        keel.open(tmp_path / "nothing.keel")
    assert {name for name in keel.__all__ if name not in ("__version__", "open")} == {
        name for name, one in vars(errors).items() if isinstance(one, type) and issubclass(one, errors.KeelError)
    }
