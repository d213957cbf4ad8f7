"""Bracketed CAN text logs: what is read, what is skipped and why."""

from __future__ import annotations

import re
import tempfile
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from keel.errors import InputError, UnknownFormat
from keel.formats import textlog
from keel.formats.reader import Account
from keel.formats.registry import recognise
from keel.formats.textlog import format_lines
from keel.model.faults import Fault
from keel.model.frames import Flag, FrameBatch, concat
from keel.model.identity import Form
from tests.making import Row, batch, rows, same_frames


def read(path: Path, text: str | bytes) -> tuple[FrameBatch, Account]:
    path.write_bytes(text if isinstance(text, bytes) else text.encode())
    account = Account()
    found = concat(list(textlog.read(path, account, lambda *_: None)))
    return found, account


@pytest.fixture
def log(tmp_path: Path) -> Path:
    return tmp_path / "x.log"


def test_an_ordinary_frame(log: Path) -> None:
    found, account = read(log, "(1700000000.123456) bus0 1A0#0011223344556677\n")
    assert found.time.tolist() == [1_700_000_000_123_456_000]
    assert (int(found.ident[0]), int(found.form[0]), int(found.dlc[0])) == (0x1A0, Form.BASE, 8)
    assert found.payload(0) == bytes.fromhex("0011223344556677")
    assert account.bus_names == ["bus0"] and account.skipped == {}


@pytest.mark.parametrize(
    "body, form, flags, dlc, payload",
    [
        ("18FECA17#AB", Form.EXTENDED, 0, 1, "AB"),
        ("000000A4#", Form.EXTENDED, 0, 0, ""),
        ("1a0#aBcD", Form.BASE, 0, 2, "ABCD"),
        ("1A0#R", Form.BASE, Flag.REMOTE, 0, ""),
        ("1A0#R8", Form.BASE, Flag.REMOTE, 8, ""),
        ("1A0##0", Form.BASE, Flag.FD, 0, ""),
        ("1A0##1AA", Form.BASE, Flag.FD | Flag.BRS, 1, "AA"),
        ("1A0##2AA", Form.BASE, Flag.FD | Flag.ESI, 1, "AA"),
        ("1A0##3" + "AB" * 64, Form.BASE, Flag.FD | Flag.BRS | Flag.ESI, 15, "AB" * 64),
        ("1A0##1" + "AB" * 12, Form.BASE, Flag.FD | Flag.BRS, 9, "AB" * 12),
    ],
)
def test_kinds_of_frame(log: Path, body: str, form: int, flags: int, dlc: int, payload: str) -> None:
    found, account = read(log, f"(1.5) x {body}\r\n")
    assert account.skipped == {}
    assert (int(found.form[0]), int(found.flags[0]), int(found.dlc[0])) == (form, flags, dlc)
    assert found.payload(0) == bytes.fromhex(payload)
    assert found.time.tolist() == [1_500_000_000]


@pytest.mark.parametrize(
    "line, reason",
    [
        ("hello", 1),
        ("[1.0] x 1A0#00", 1),
        ("(abc) x 1A0#00", 1),
        ("(1.0) 1A0#00", 2),
        ("(1.0) x 1A#00", 3),
        ("(1.0) x 1A0A#00", 3),
        ("(1.0) x 1A0-00", 3),
        ("(1.0) x 800#00", 4),
        ("(1.0) x FFFFFFFF#00", 4),
        ("(1.0) x 1A0#0G", 5),
        ("(1.0) x 1A0#00 and more", 5),
        ("(1.0) x 1A0#R9x", 5),
        ("(1.0) x 1A0#" + "00" * 9, 6),
        ("(1.0) x 1A0##1" + "00" * 65, 6),
        ("(1.0", 7),
        ("(1.0) x", 7),
        ("(1.0) x 1A", 7),
        ("(1.0) x 1A0#001", 7),
        ("(1.0) x 1A0##", 7),
    ],
)
def test_bad_lines_are_counted_by_reason_and_cost_nothing_else(log: Path, line: str, reason: int) -> None:
    good = "(1.0) x 1A0#00\n"
    found, account = read(log, good + line + "\n" + good)
    assert len(found) == 2
    assert account.skipped == {textlog.REASONS[reason]: 1}
    assert account.examples[textlog.REASONS[reason]] == "line 2"


def test_blank_lines_and_line_ends_are_no_fault(log: Path) -> None:
    found, account = read(log, "\r\n  \n(1.0) x 1A0#00\r\n\n(2.0) x 1A0#01")
    assert found.time.tolist() == [10**9, 2 * 10**9] and account.skipped == {}


def test_times_out_of_order_keep_the_file_s_order(log: Path) -> None:
    found, account = read(log, "(3.0) x 1A0#00\n(1.0) x 1A0#01\n(2.0) x 1A0#02\n")
    assert found.time.tolist() == [3 * 10**9, 10**9, 2 * 10**9]
    assert account.back_steps == 1
    assert "file order was kept" in account.sentences()[-1]


def test_error_frames_come_as_the_link_type_has_them(log: Path) -> None:
    # Protocol violation (bit 3): stuffing (byte 2, bit 2) at the CRC sequence (byte 3 is 08).
    found, _ = read(log, "(1.0) x 20000008#0000040800000000\n")
    assert int(found.flags[0]) == Flag.ERROR and int(found.form[0]) == Form.NONE
    assert int(found.faults[0]) == Fault.STUFF | Fault.CRC


def test_many_buses_keep_their_names(log: Path) -> None:
    lines = "".join(f"({i}.0) bus{i % 5} 1A0#00\n" for i in range(20))
    found, account = read(log, lines)
    assert account.bus_names == [f"bus{i}" for i in range(5)]
    assert found.bus.tolist() == [i % 5 for i in range(20)]


def test_blocks_end_at_line_ends(log: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("keel.formats.reader.BLOCK_BYTES", 100)
    lines = "".join(f"({i}.0) x 1A0#{i:04X}\n" for i in range(200)) + "x" * 350 + "\n(500.0) x 1A0#FFFF\n"
    found, account = read(log, lines)
    assert [found.payload(i) for i in range(200)] == [i.to_bytes(2, "big") for i in range(200)]
    assert len(found) == 201 and account.skipped_total == 1
    assert account.examples[textlog.REASONS[1]] == "line 201"


@given(st.binary(max_size=300))
def test_no_bytes_crash_the_parser(noise: bytes) -> None:
    with tempfile.TemporaryDirectory() as folder:
        good = b"\n(1.0) x 1A0#00\n"
        found, account = read(Path(folder) / "x.log", noise + good)
        assert len(found) >= 1
        lines = [line for line in (noise + good).split(b"\n") if line.strip(b" \t\r")]
        assert len(found) + account.skipped_total == len(lines)


CLASSIC_OR_FD = rows().map(
    lambda found: [Row(r.time, r.ident, r.payload, r.bus, r.form, r.flags & ~Flag.TX) for r in found]
)


@given(CLASSIC_OR_FD)
def test_what_is_written_is_read_again(found: list[Row]) -> None:
    whole = batch(found)
    text = "".join(line + "\n" for line in format_lines(whole, ["a", "b"]))
    with tempfile.TemporaryDirectory() as folder:
        back, account = read(Path(folder) / "x.log", text)
    names = account.bus_names
    assert [names[b] for b in back.bus] == [["a", "b"][b] for b in whole.bus]
    back.bus[:] = whole.bus
    assert same_frames(back, whole)


def test_faulty_frames_are_not_written_as_if_they_were_good() -> None:
    whole = batch([Row(1, 0x1A0, b"a", faults=int(Fault.CRC), flags=int(Flag.ERROR)), Row(2, 0x1A0, b"b")])
    assert len(list(format_lines(whole, ["a"]))) == 1


def test_formats_are_told_by_content(tmp_path: Path) -> None:
    path = tmp_path / "looks-like.pcap"
    path.write_text("junk first\n(1700000000.123456) bus0 1A0#00\n")
    known, why = recognise(path)
    assert known.name == "bracketed CAN text log" and re.match("line 2 ", why)


def test_unknown_empty_and_missing_files_are_refused_with_the_reason(tmp_path: Path) -> None:
    path = tmp_path / "x"
    path.write_bytes(b"")
    with pytest.raises(InputError, match="empty"):
        recognise(path)
    path.write_bytes(bytes(range(256)) * 10)
    with pytest.raises(UnknownFormat, match="no format recognises"):
        recognise(path)
    with pytest.raises(InputError, match="cannot be read"):
        recognise(tmp_path / "nowhere")
    with pytest.raises(InputError, match="is a folder"):
        recognise(tmp_path)


def test_a_line_is_read_as_soon_as_it_is_whole() -> None:
    account = Account()
    parser = textlog.TextParser(account)
    for i in range(5):
        line = f"({1_700_000_000 + i}.123456) bus0 1A0#{i:02X}\n".encode()
        batches, used = parser.feed(np.frombuffer(line + b"(17", np.uint8), False)
        assert used == len(line) and [b.payload(0) for b in batches] == [bytes([i])]


REGULAR = st.builds(
    lambda s, f, bus, ident, fd, p, end: f"({s}.{f}) {bus} {ident}#{fd}{p}{end}",
    st.integers(1_000_000_000, 9_999_999_999),
    st.one_of(st.integers(0, 999_999).map("{:06d}".format), st.integers(0, 999_999_999).map("{:09d}".format)),
    st.sampled_from(["a", "bus0", "can1", "sevenn7", "muchlonger", "é"]),
    st.one_of(st.integers(0, 0x8FF).map("{:03X}".format), st.integers(0, 0x2FFF_FFFF).map("{:08x}".format)),
    st.sampled_from(["", "", "", "#0", "#3", "#g"]),
    st.binary(max_size=20).map(bytes.hex),
    st.sampled_from(["\n", "\n", "\r\n", " \n", "\n\n"]),
)
CHARACTERS = st.sampled_from(list("()#. 0:/@AFGfg`\r\nR\x80\xff"))


@given(st.lists(st.tuples(REGULAR, st.none() | st.tuples(st.integers(0, 60), CHARACTERS)), max_size=12), st.booleans())
@settings(max_examples=300, deadline=None)
def test_lines_read_eight_characters_at_a_time_are_what_they_are_one_by_one(
    found: list[tuple[str, tuple[int, str] | None]], is_cut: bool
) -> None:
    lines = []
    for line, change in found:
        if change is not None:
            at = change[0] % len(line)
            line = line[:at] + change[1] + line[at + 1 :]
        lines.append(line)
    text = "".join(lines).encode("latin-1", "replace")
    text = text[:-3] if is_cut else text
    # What begins with a space is never regular: each line is then looked at character by character.
    slow = b"".join(b" " + line for line in text.splitlines(keepends=True) if line.strip())
    one, other = (_parsed(one) for one in (b"".join(t for t in text.splitlines(keepends=True) if t.strip()), slow))
    assert same_frames(one[0], other[0])
    assert one[1].skipped == other[1].skipped and one[1].examples == other[1].examples
    assert one[1].bus_names == other[1].bus_names


def _parsed(text: bytes) -> tuple[FrameBatch, Account]:
    account = Account()
    batches, used = textlog.TextParser(account).feed(np.frombuffer(text, np.uint8), True)
    assert used == len(text)
    return concat(batches), account
