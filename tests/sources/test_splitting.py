"""Streams of bytes cut into messages, and the marks of the system taken out of them."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.model.faults import Fault
from keel.sources.serial_line import Framing, Unmarker
from keel.sources.splitting import LONGEST, SILENT_NS, Message, Split, Splitter, delimiter_of

MS = 1_000_000
BYTE_NS = 100_000
"""At 100 kBd with ten bits a byte."""


def cut(split: Split, *pieces: tuple[int, bytes]) -> list[Message]:
    """The messages of pieces, each with the ms it was read at."""
    splitter, found = Splitter(split), []
    for at, data in pieces:
        found += splitter.take(data, at * MS)
    return found + splitter.rest()


def test_silence_ends_a_message_and_its_first_byte_says_when_it_began() -> None:
    found = cut(Split("gap", BYTE_NS, gap_ns=5 * MS), (10, b"ab"), (12, b"cd"), (30, b"e"))
    assert found == [(10 * MS - 2 * BYTE_NS, b"abcd", 0), (30 * MS - BYTE_NS, b"e", 0)]


def test_a_delimiter_ends_a_message_and_belongs_to_it() -> None:
    found = cut(Split("delimiter", BYTE_NS, delimiter=b"\r\n"), (10, b"one\r"), (11, b"\ntwo\r\nthr"), (12, b"ee"))
    assert [one.data for one in found] == [b"one\r\n", b"two\r\n", b"three"]
    assert found[1].time > found[0].time


def test_messages_of_a_length_are_cut_so() -> None:
    found = cut(Split("length", BYTE_NS, length=3), (10, b"abcdefg"), (11, b"hi"))
    assert [one.data for one in found] == [b"abc", b"def", b"ghi"]
    assert found[1].time - found[0].time == 3 * BYTE_NS


def test_a_message_that_does_not_end_is_taken_for_whole_after_a_silence() -> None:
    splitter = Splitter(Split("delimiter", BYTE_NS))
    assert splitter.take(b"login: ", 10 * MS) == [] and splitter.idle(20 * MS) == []
    assert [one.data for one in splitter.idle(10 * MS + SILENT_NS)] == [b"login: "]
    assert splitter.rest() == []


def test_a_message_has_an_end_even_if_nothing_ends_it() -> None:
    found = cut(Split("gap", BYTE_NS), (10, bytes(2 * LONGEST + 5)))
    assert [len(one.data) for one in found] == [LONGEST, LONGEST, 5]


def test_faults_go_with_the_message_that_has_the_byte() -> None:
    splitter = Splitter(Split("delimiter", BYTE_NS))
    found = splitter.take(b"ab\ncd\nef\n", 10 * MS, [(4, int(Fault.PARITY))])
    assert [one.faults for one in found] == [0, int(Fault.PARITY), 0]


@given(
    st.sampled_from([Split("gap", 10), Split("delimiter", 10), Split("length", 10, length=3)]),
    st.lists(st.tuples(st.integers(0, 5_000), st.binary(max_size=20)), max_size=20),
)
def test_no_byte_is_lost_or_doubled_and_time_never_runs_back(split: Split, pieces: list[tuple[int, bytes]]) -> None:
    at, told = 0, []
    for passed, data in pieces:
        at += passed
        told.append((at, data))
    found = cut(split, *told)
    assert b"".join(one.data for one in found) == b"".join(data for _, data in told)
    times = [one.time for one in found]
    assert times == sorted(times) and all(one.data for one in found)


@pytest.mark.parametrize(("text", "found"), [("lf", b"\n"), ("CRLF", b"\r\n"), ("nul", b"\0"), ("0d0A", b"\r\n")])
def test_delimiters_are_said_in_words_or_hex(text: str, found: bytes) -> None:
    assert delimiter_of(text) == found


@pytest.mark.parametrize("text", ["", "x", "0", "ab" * 17, "lf lf"])
def test_what_is_no_delimiter_is_refused(text: str) -> None:
    with pytest.raises(ValueError):
        delimiter_of(text)


def test_marks_are_taken_out_and_told() -> None:
    assert Unmarker(True).take(b"ab\xff\x00c\xff\xffd\xff\x00\x00") == (
        b"abc\xffd\x00",
        [(2, int(Fault.PARITY)), (5, int(Fault.BREAK))],
    )
    assert Unmarker(False).take(b"\xff\x00\x55") == (b"\x55", [(0, int(Fault.FRAMING))])


marked = st.lists(st.tuples(st.integers(0, 255), st.booleans()), max_size=40)


@given(marked, st.integers(0, 200))
def test_marks_are_read_as_the_system_writes_them_however_they_are_cut(
    sent: list[tuple[int, bool]], place: int
) -> None:
    wire = bytearray()
    for byte, is_wrong in sent:
        wire += bytes([255, 0, byte]) if is_wrong else b"\xff\xff" if byte == 255 else bytes([byte])
    place = min(place, len(wire))
    unmarker = Unmarker(True)
    first, second = unmarker.take(bytes(wire[:place])), unmarker.take(bytes(wire[place:]))
    assert first[0] + second[0] == bytes(byte for byte, _ in sent)
    places = [at for at, _ in first[1]] + [at + len(first[0]) for at, _ in second[1]]
    assert places == [at for at, (_, is_wrong) in enumerate(sent) if is_wrong]


def test_a_byte_takes_its_start_parity_and_stop_bits() -> None:
    assert Framing(9600).byte_ns == round(10e9 / 9600)
    assert Framing(1200, 7, "even", 2.0).byte_ns == round(11e9 / 1200)
    assert Framing(115_200, 8, "none", 1.5).words == "115200 bit/s 8N1.5"
