"""The ASCII lines of serial CAN adapters, read as they are written, and whatever else may come."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.formats.adapter_lines import faults_of, frame_line, parse_lines
from keel.model.faults import Fault
from keel.model.frames import Flag
from keel.model.identity import Form
from tests.making import Row, batch


@pytest.mark.parametrize(
    ("line", "form", "ident", "flags", "payload", "stamp"),
    [
        (b"t1A02BEEF\r", Form.BASE, 0x1A0, 0, b"\xbe\xef", -1),
        (b"t7FF0\r", Form.BASE, 0x7FF, 0, b"", -1),
        (b"T18FEF1171AA1388\r", Form.EXTENDED, 0x18FEF117, 0, b"\xaa", 0x1388),
        (b"r1233\r", Form.BASE, 0x123, Flag.REMOTE, b"", -1),
        (b"R1FFFFFFF8EA5F\r", Form.EXTENDED, 0x1FFFFFFF, Flag.REMOTE, b"", 59_999),
        (b"t00180102030405060708\r", Form.BASE, 1, 0, bytes(range(1, 9)), -1),
        (b"t0011ab\r", Form.BASE, 1, 0, b"\xab", -1),
    ],
)
def test_frames_are_read(line: bytes, form: int, ident: int, flags: int, payload: bytes, stamp: int) -> None:
    found = parse_lines(line)
    frames = found.frames
    assert (len(frames), found.wrong, found.bells, found.used, found.others) == (1, 0, 0, len(line), [])
    assert (int(frames.form[0]), int(frames.ident[0]), int(frames.flags[0])) == (form, ident, flags)
    assert (frames.payload(0), int(frames.time[0]), int(frames.dlc[0])) == (
        payload, stamp, int(line[4 if form == Form.BASE else 9 : 5 if form == Form.BASE else 10])
    )  # fmt: skip
    assert frames.bits[0] > 40


@pytest.mark.parametrize(
    "line",
    [
        b"t1A0\r", b"t1A09\r", b"t1A02BE\r", b"t1A02BEEG\r", b"t8000\r", b"T200000000\r", b"t1A02BEEF12\r",
        b"t1A02BEEFEA60\r", b"tXYZ0\r", b"t1A02BEEF12345\r",
    ],
)  # fmt: skip
def test_what_begins_like_a_frame_and_is_none_is_counted(line: bytes) -> None:
    found = parse_lines(line + b"t1230\r")
    assert (found.wrong, len(found.frames)) == (1, 1)


def test_answers_bells_and_lines_about_itself_are_told_apart() -> None:
    found = parse_lines(b"\r\aV1013\rt1230\rF84\r\a\re2ac\rsp002003\rt12")
    assert found.others == ["V1013", "F84", "e2ac", "sp002003"]
    assert (found.bells, len(found.frames), found.wrong) == (2, 1, 0)
    assert found.used == len(b"\r\aV1013\rt1230\rF84\r\a\re2ac\rsp002003\r")


@pytest.mark.parametrize(
    ("line", "faults", "lost"),
    [
        ("F00", 0, False),
        ("F84", Fault.OTHER | Fault.WARNING, False),
        ("F21", Fault.PASSIVE, True),
        ("F08", 0, True),
        ("e3acf", Fault.ACK | Fault.CRC | Fault.FORM, False),
        ("e1o", 0, True),
        ("sw096000", Fault.WARNING, False),
        ("sb000000", Fault.BUS_OFF, False),
        ("sa000000", 0, False),
        ("FXX", 0, False),
        ("V1013", 0, False),
        ("", 0, False),
    ],
)
def test_what_an_adapter_says_of_faults(line: str, faults: int, lost: bool) -> None:
    assert faults_of(line) == (int(faults), lost)


said = st.builds(
    lambda extended, remote, ident, payload: Row(
        0,
        ident & (0x1FFFFFFF if extended else 0x7FF),
        b"" if remote else payload,
        form=Form.EXTENDED if extended else Form.BASE,
        flags=int(Flag.REMOTE) if remote else 0,
    ),
    st.booleans(),
    st.booleans(),
    st.integers(0, 0x1FFFFFFF),
    st.binary(max_size=8),
)


@given(st.lists(said, max_size=20), st.lists(st.integers(0, 59_999) | st.none(), min_size=20, max_size=20))
def test_frames_are_read_as_they_are_written(rows: list[Row], stamps: list[int | None]) -> None:
    frames = batch(rows) if rows else batch([])
    text = b"".join(frame_line(frames, i, stamps[i]) for i in range(len(rows)))
    found = parse_lines(text)
    assert found.used == len(text) and found.wrong == 0
    assert found.frames.time.tolist() == [-1 if s is None else s for s in stamps[: len(rows)]]
    for i, row in enumerate(rows):
        assert (int(found.frames.ident[i]), found.frames.payload(i)) == (row.ident, row.payload)
        assert (int(found.frames.form[i]), int(found.frames.flags[i])) == (row.form, row.flags)


@given(st.binary(max_size=300) | st.text("tTrR0123456789ABCDEFaF\r\aeszZ", max_size=300).map(str.encode))
def test_whatever_comes_is_read_or_counted_and_nothing_is_lost(data: bytes) -> None:
    found = parse_lines(data)
    ends = max(data.rfind(b"\r"), data.rfind(b"\a")) + 1
    assert found.used == ends
    lines = data[:ends].replace(b"\a", b"\r").split(b"\r")[:-1]
    assert len(found.frames) + found.wrong + len(found.others) <= len(lines)
    assert found.bells == data[:ends].count(b"\a")


@given(st.lists(said, min_size=1, max_size=5), st.data())
def test_it_does_not_matter_how_a_stream_is_cut(rows: list[Row], data: st.DataObject) -> None:
    frames = batch(rows)
    text = b"".join(frame_line(frames, i, 7 * i) for i in range(len(rows)))
    cut = data.draw(st.integers(0, len(text)))
    first = parse_lines(text[:cut])
    second = parse_lines(text[first.used :])
    assert len(first.frames) + len(second.frames) == len(rows) and first.wrong == second.wrong == 0
