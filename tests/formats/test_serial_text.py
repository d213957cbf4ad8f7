"""Text and bytes of serial lines."""

from __future__ import annotations

import os
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.formats.importing import import_files
from keel.formats.reader import Account
from keel.formats.registry import format_named
from keel.formats.serial_text import NO_DATE, TextParser
from keel.model.frames import FrameBatch, concat
from keel.model.units import NS_PER_S
from keel.store.recording import Recording, Snapshot
from tests.command import keel
from tests.making import find


def read(text: bytes, pieces: int = 1) -> tuple[FrameBatch, Account]:
    account = Account()
    parser, batches, left = TextParser(account), [], b""
    size = -(-len(text) // pieces) or 1
    for at in range(0, max(len(text), 1), size):
        left += text[at : at + size]
        found, used = parser.feed(np.frombuffer(left, np.uint8), at + size >= len(text))
        batches += found
        left = left[used:]
    assert not left
    return concat(batches), account


def imported(path: Path, word: str, rate: int | None = None) -> Snapshot:
    import_files([path], path.with_suffix(".keel"), read_as=format_named(word, rate))
    return Recording(path.with_suffix(".keel")).snapshot()


@pytest.mark.parametrize(
    "line, seconds, payload",
    [
        (b"12.5 hello", 12.5, b"hello"),
        (b"[12.5] hello", 12.5, b"hello"),
        (b"(1700000000.25): a b", 1700000000.25, b"a b"),
        (b"3\tx", 3, b"x"),
        (b"3s  x", 3, b" x"),
        (b"00:01:02.5 x", 62.5, b"x"),
        (b"01:02 x", 3720, b"x"),
        (b"[2024-02-29 23:59:59,125] x", datetime(2024, 2, 29, 23, 59, 59, 125000, UTC).timestamp(), b"x"),
        (b"2024-05-01T13:01:02Z x", datetime(2024, 5, 1, 13, 1, 2, 0, UTC).timestamp(), b"x"),
        (b"2024/05/01 13:01:02+02:00 x", datetime(2024, 5, 1, 11, 1, 2, 0, UTC).timestamp(), b"x"),
        (b"2024-05-01T13:01:02-0130 x", datetime(2024, 5, 1, 14, 31, 2, 0, UTC).timestamp(), b"x"),
    ],
)
def test_a_time_and_what_follows_it(line: bytes, seconds: float, payload: bytes) -> None:
    frames, account = read(line + b"\r\n\n")
    assert frames.time.tolist() == [round(seconds * 1000) * 1_000_000] and frames.payload(0) == payload
    assert account.media == {"serial": "serial"}


@pytest.mark.parametrize(
    "line", [b"hello", b"12:99 x", b"2024-13-01T00:00:00 x", b"[12 x", b"12a x", b"25:00:00 x", b"-"]
)
def test_what_is_no_time_is_all_payload_and_said(line: bytes) -> None:
    frames, account = read(b"1.0 a\n" + line + b"\n2.0 b")
    assert frames.payload(1) == line and frames.time.tolist() == [NS_PER_S, NS_PER_S, 2 * NS_PER_S]
    assert account.sentences() == ["1 lines without a time: they stand at the time of the line before"]


def test_clocks_go_on_over_midnight_and_have_no_date() -> None:
    frames, account = read(b"23:59:59.5 a\n00:00:00.5 b\nno time\n23:59:59 c\n00:00:01 d\n", pieces=3)
    assert np.diff(frames.time).tolist() == [NS_PER_S, 0, 86_398_500_000_000, 2 * NS_PER_S]
    assert NO_DATE in account.sentences()


@given(st.binary(max_size=300), st.integers(1, 7))
def test_every_byte_of_a_line_is_somewhere_whatever_the_pieces(text: bytes, pieces: int) -> None:
    whole, _ = read(text)
    parts, _ = read(text, pieces)
    assert whole.time.tolist() == parts.time.tolist() and whole.data.tolist() == parts.data.tolist()
    assert len(whole) == sum(bool(line.removesuffix(b"\r")) for line in text.split(b"\n"))


def test_serial_frames_are_shown_found_and_counted(tmp_path: Path) -> None:
    (tmp_path / "log.txt").write_bytes(b"".join(b"%.3f depth %d\n" % (i / 10, i) for i in range(100)))
    assert keel("import", tmp_path / "log.txt", "--as", "serial", "-o", tmp_path / "log.keel").returncode == 0
    snapshot = Recording(tmp_path / "log.keel").snapshot()
    assert snapshot.manifest.buses[0].medium == "serial" and snapshot.frames == 100
    assert len(find(snapshot, "id:0")) == len(find(snapshot, "data")) == 100
    assert len(find(snapshot, 'text:"depth 7"')) == 11
    said = keel("frames", tmp_path / "log.keel", "--json").stdout.splitlines()[0]
    assert '"id": "0"' in said and '"medium": "serial"' in said


def test_bytes_have_times_by_their_rate_or_invented_ones(tmp_path: Path) -> None:
    (tmp_path / "a.bin").write_bytes(b"one\ntwo\n" + bytes(100))
    os.utime(tmp_path / "a.bin", (1000, 1000))
    snapshot = imported(tmp_path / "a.bin", "bytes", 10_000)
    frames = snapshot.rows(0, snapshot.frames)
    assert [frames.payload(i) for i in range(4)] == [b"one\n", b"two\n", bytes(64), bytes(36)]
    assert (frames.time - 1000 * NS_PER_S).tolist() == [0, 4_000_000, 8_000_000, 72_000_000]
    assert any("times are invented" in note and "at 10000 bit/s" in note for note in snapshot.manifest.notes)
    (tmp_path / "b.bin").write_bytes(b"x" * 10)
    notes = imported(tmp_path / "b.bin", "bytes").manifest.notes
    assert any("9600 bit/s, which nobody named" in note for note in notes)


def test_what_is_named_wrong_is_said(tmp_path: Path) -> None:
    (tmp_path / "a.txt").write_text("1 x\n")
    for words, said in (
        (("--as", "morse"), "one of serial, bytes"),
        (("--as", "serial", "--rate", "9600"), "--rate is for --as bytes"),
        (("--as", "serial", "--preview"), "without --layout and --preview"),
    ):
        done = keel("import", tmp_path / "a.txt", "-o", tmp_path / "a.keel", *words)
        assert done.returncode == 2 and said in done.stderr
    missing = keel("import", tmp_path / "none.txt", "--as", "serial", "-o", tmp_path / "a.keel")
    assert missing.returncode and "No such file" in missing.stderr
