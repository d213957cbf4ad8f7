"""Delimited text: layouts guessed from a few lines, corrected by words, and read exactly."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.errors import InputError, UnknownFormat
from keel.formats.delimited import REASONS, DelimitedParser
from keel.formats.frame_lines import CSV_HEADER
from keel.formats.importing import import_files
from keel.formats.layout import (
    ROLES,
    SEPARATORS,
    UNITS,
    Layout,
    guess,
    likely_separator,
    missing_in,
    remember,
    remembered,
)
from keel.formats.preview import first_frames
from keel.formats.reader import Account
from keel.formats.registry import recognise
from keel.model.frames import Flag, FrameBatch, concat
from keel.model.identity import Form
from keel.store.recording import Recording

BYTES = """Time (ms);Channel;ID;DLC;D0;D1;D2;D3
0,125;1;1A0;4;00;11;22;33
1,250;1;220;2;AA;BB
3,5;2;18FECA17;3;01;02;03;
"""
CLOCK = """12:00:01.5  rx 0x1A0  8  00 11 22 33 44 55 66 77
12:00:02.0  tx 0x220  2  AA BB
12:00:03.0  tx 0x220  2  AA BC
"""
DATES = """when,id,data
2024-02-29 12:00:01.5,1A0,17 0 255
2024-02-29 12:00:01.600000001,1A0,17 1 255
"""


def parse(text: str, layout: Layout) -> tuple[FrameBatch, Account]:
    account = Account()
    batches, used = DelimitedParser(account, layout).feed(np.frombuffer(text.encode(), np.uint8), True)
    assert used == len(text.encode())
    return concat(batches), account


def guessed(text: str) -> Layout:
    layout = guess(text.encode())
    assert layout is not None
    return layout


def test_a_column_for_each_byte_with_a_decimal_comma() -> None:
    layout = guessed(BYTES)
    assert layout == Layout("semicolon", ("time", "bus", "id", "dlc", "byte"), header=True, unit="ms")
    found, account = parse(BYTES, layout)
    assert found.time.tolist() == [125_000, 1_250_000, 3_500_000]
    assert [found.payload(i).hex() for i in range(3)] == ["00112233", "aabb", "010203"]
    assert found.form.tolist() == [Form.BASE, Form.BASE, Form.EXTENDED]
    assert [account.bus_names[b] for b in found.bus] == ["1", "1", "2"]


def test_spaces_a_clock_and_directions() -> None:
    layout = guessed(CLOCK)
    assert (layout.separator, layout.unit, layout.columns[0]) == ("space", "clock", "time")
    found, _ = parse(CLOCK, layout)
    assert found.time.tolist() == [43_201_500_000_000, 43_202_000_000_000, 43_203_000_000_000]
    assert found.flags.tolist() == [0, Flag.TX, Flag.TX]
    assert found.payload(0) == bytes.fromhex("0011223344556677")


@pytest.mark.parametrize(
    "title, unit",
    [
        ("Zeit/ms", "ms"), ("Time [us]", "us"), ("Zeit (µs)", "us"), ("ms", "ms"), ("ns", "ns"), ("time_ms", "ms"),
        ("timestamp", "s"), ("elapsed time/s", "s"), ("rel-time, milliseconds", "ms"), ("seconds", "s"),
    ],
)  # fmt: skip
def test_the_unit_of_times_is_in_their_title(title: str, unit: str) -> None:
    layout = guessed(f"{title};line;ident;n;b0;b1\n0.5;1;1A0;2;00;11\n1.5;1;1A0;2;00;12\n2.5;2;1A0;2;00;13\n")
    assert (layout.unit, layout.columns) == (unit, ("time", "bus", "id", "len", "byte"))


def test_a_title_that_nobody_knows_is_told_by_what_it_holds_or_named() -> None:
    assert guessed("Zeit/ms;Kennung;Daten\n1;1A0;00 11\n2;1A1;00 12\n3;1A0;00 13\n").columns == (
        "time",
        "id",
        "payload",
    )
    assert guess(b"Zeit/ms;Wer;Daten\n1;helm one;00 11\n2;helm two;00 12\n") is None
    assert missing_in(b"Zeit/ms;Wer;Daten\n1;helm one;00 11\n2;helm two;00 12\n") == (
        "it is a table of 3 columns (“Zeit/ms”, “Wer”, “Daten”), but no column with identifiers is found"
    )
    assert missing_in(b"no table at all\n") == ""


def test_a_layout_given_by_hand_comes_first(tmp_path: Path) -> None:
    path = tmp_path / "table"
    path.write_text("Wann|Wer|Was\n1|0x1a0|0xFE 0xFF\n2|0x1a0|0xFE,0x01\n")
    with pytest.raises(UnknownFormat, match="a table of 3 columns"):
        recognise(path)
    layout = Layout(likely_separator(path.read_bytes()), ()).corrected("header=yes unit=s columns=time,id,payload")
    batch, _ = first_frames(path, layout)
    assert [batch.payload(i).hex() for i in range(2)] == ["feff", "fe01"]


def test_what_keel_wrote_is_known_whatever_its_times_are() -> None:
    head = ",".join(CSV_HEADER) + "\n1,5,0.000000005,a,1A0,0,rx,data,0,0,0,1,1,00,,\n"
    layout = guessed(head)
    found, account = parse(head, layout)
    assert found.time.tolist() == [5] and account.bus_names == ["a"]


def test_quotes_within_quotes_and_spaces_within_them(tmp_path: Path) -> None:
    found, account = parse('1," a ""b"" ",1A0,"00,11"\n', Layout("comma", ("time", "bus", "id", "payload")))
    assert account.bus_names == [' a "b" '] and found.payload(0) == b"\x00\x11"


def test_dates_and_decimal_payloads() -> None:
    layout = guessed(DATES)
    assert (layout.unit, layout.hex_payload, layout.header) == ("date", False, True)
    found, _ = parse(DATES, layout)
    # 2024-02-29 is day 19782 since 1970.
    noon = (19782 * 86400 + 12 * 3600) * 10**9
    assert found.time.tolist() == [noon + 1_500_000_000, noon + 1_600_000_001]
    assert [found.payload(i) for i in range(2)] == [bytes([17, 0, 255]), bytes([17, 1, 255])]


@pytest.mark.parametrize(
    "cell, unit, ns",
    [
        ("1.5", "s", 1_500_000_000),
        ("(1700000000.123456789)", "s", 1_700_000_000_123_456_789),
        ("12.0000001", "ms", 12_000_000),
        ("7", "us", 7_000),
        ("1700000000123456789", "ns", 1_700_000_000_123_456_789),
        ("01:02:03.25", "clock", 3_723_250_000_000),
        ("1970-01-02T00:00:01Z", "date", 86_401_000_000_000),
    ],
)
def test_times_are_exact(cell: str, unit: str, ns: int) -> None:
    found, account = parse(f"{cell},1A0,00\n", Layout("comma", ("time", "id", "payload"), unit=unit))
    assert found.time.tolist() == [ns] and not account.skipped


@pytest.mark.parametrize(
    "cell, is_hex, ident, form",
    [
        ("1A0", True, 0x1A0, Form.BASE),
        ("0x1A0", False, 0x1A0, Form.BASE),
        ("1A0h", False, 0x1A0, Form.BASE),
        ("416", False, 416, Form.BASE),
        ("000001A0", True, 0x1A0, Form.EXTENDED),
        ("1A0x", True, 0x1A0, Form.EXTENDED),
        ("5000", False, 5000, Form.EXTENDED),
        ("", True, 0, Form.NONE),
    ],
)
def test_identifiers_as_people_write_them(cell: str, is_hex: bool, ident: int, form: Form) -> None:
    found, account = parse(f"1,{cell},00\n", Layout("comma", ("time", "id", "payload"), hex_ids=is_hex))
    assert (found.ident.tolist(), found.form.tolist()) == ([ident], [form]) and not account.skipped


def test_bad_lines_are_counted_with_the_first_place() -> None:
    text = "t,id,data\n1,1A0,00\nx,1A0,00\n2,zz,00\n3,1A0,0G\n\n# a remark\n4\n5,1A0,00\n"
    found, account = parse(text, Layout("comma", ("time", "id", "payload"), header=True))
    assert found.time.tolist() == [10**9, 5 * 10**9]
    assert account.skipped == {REASONS[1]: 1, REASONS[2]: 1, REASONS[3]: 1, REASONS[4]: 1}
    assert account.examples[REASONS[1]] == "line 3" and account.examples[REASONS[4]] == "line 8"


def test_words_correct_a_guess_and_say_what_is_wrong() -> None:
    layout = guessed(BYTES).corrected("unit=us columns=-,bus,id,time,byte header=no")
    assert (layout.unit, layout.columns, layout.header) == ("us", ("-", "bus", "id", "time", "byte"), False)
    assert Layout("comma", ()).corrected(layout.words()) == layout
    for words in ("unit=years", "columns=when,id", "colour=red", "skip=x"):
        with pytest.raises(InputError, match="is not understood"):
            layout.corrected(words)
    assert "time" in Layout("comma", ("id",)).problem() and "identifier" in Layout("comma", ("time",)).problem()


def test_a_layout_that_was_set_is_remembered_for_texts_like_it() -> None:
    set_by_hand = guessed(BYTES).corrected("unit=s")
    assert remembered(BYTES.encode()) is None
    remember(BYTES.encode(), set_by_hand)
    assert remembered((BYTES.split("\n")[0] + "\n9;1;1A1;1;00\n").encode()) == set_by_hand
    assert remembered(DATES.encode()) is None


def test_a_preview_shows_what_the_import_reads(tmp_path: Path) -> None:
    path = tmp_path / "table"
    path.write_text(BYTES)
    batch, account = first_frames(path)
    assert len(batch) == 3 and account.bus_names == ["1", "2"]
    done = import_files([path], tmp_path / "r.keel", layout=guessed(BYTES).corrected("unit=s"))
    snapshot = Recording(done.folder).snapshot()
    assert snapshot.rows(0, 1).time.tolist() == [125_000_000] and snapshot.manifest.bus_names == ["1", "2"]


layouts = st.builds(
    Layout,
    separator=st.sampled_from(sorted(SEPARATORS)),
    columns=st.lists(st.sampled_from(ROLES), min_size=1, max_size=6).map(tuple),
    header=st.booleans(),
    skip=st.integers(0, 2),
    unit=st.sampled_from(UNITS),
    hex_ids=st.booleans(),
    hex_payload=st.booleans(),
)


@given(st.binary(max_size=300), layouts)
def test_no_bytes_crash_the_reader(noise: bytes, layout: Layout) -> None:
    batches, _ = DelimitedParser(Account(), layout).feed(np.frombuffer(noise, np.uint8), True)
    for batch in batches:
        assert len(batch.keys()) == len(batch)


@given(st.text(alphabet='0123456789abcdefABC,;\t|. :xh\n"-', max_size=300))
def test_no_text_crashes_the_guess(text: str) -> None:
    layout = guess(text.encode())
    assert layout is None or not layout.problem()
