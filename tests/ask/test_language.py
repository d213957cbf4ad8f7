"""Reading asks: what they mean, and what is said of wrong ones."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.ask import earlier, nodes, terms
from keel.ask.language import parse
from keel.ask.nodes import Scene
from keel.ask.terms import IdRange
from keel.ask.times import duration_ns
from keel.errors import AskError
from keel.model.faults import Fault
from keel.model.globs import Glob
from keel.model.identity import Form
from keel.signals.book import Book
from keel.signals.dictionary import Dictionary, Message

BOOK = Book(
    [Dictionary((Message("a", Form.BASE, 0x1A0, "PackOneStatus"), Message("a", Form.BASE, 0x220, "BowRampState")))]
)
SCENE = Scene(("a", "Hotel"), BOOK)


@pytest.mark.parametrize(
    "text, node",
    [
        ("", nodes.Everything()),
        ("   ", nodes.Everything()),
        ("id:1A0", terms.Ids((IdRange(0x1A0, 0x1A0, None, Form.BASE),))),
        ("ID:1a0", terms.Ids((IdRange(0x1A0, 0x1A0, None, Form.BASE),))),
        ("id:1A0..1AF", terms.Ids((IdRange(0x1A0, 0x1AF, None, Form.BASE),))),
        ("id:18FE??17", terms.Ids((IdRange(0x18FE0017, 0, 0xFFFF00FF, Form.EXTENDED),))),
        ("id:700..18FF0000", terms.Ids((IdRange(0x700, 0x18FF0000, None, None),))),
        ("id:1A0 , 220", terms.Ids((IdRange(0x1A0, 0x1A0, None, Form.BASE), IdRange(0x220, 0x220, None, Form.BASE)))),
        ("name:Pack*", terms.Names((Glob("Pack*"),))),
        ("bus:A,hotel", terms.Buses((Glob("A"), Glob("hotel")))),
        ("dir:TX", terms.Direction(True)),
        ("len>8", terms.Length(">", 8)),
        ("len != 8", terms.Length("!=", 8)),
        ('bytes:"5E ?? 04"', terms.HasBytes((0x5E, None, 0x04))),
        ("bytes:5E??04", terms.HasBytes((0x5E, None, 0x04))),
        ('bytes@2:"FF"', terms.HasBytes((0xFF,), 2)),
        ('text:"two words"', terms.HasText("two words")),
        ("text:ready", terms.HasText("ready")),
        ("fault", terms.Faults(terms.ANY_FAULT)),
        ("fault:crc,ACK", terms.Faults(Fault.CRC | Fault.ACK)),
        ("gap>120ms", earlier.Gap(">", 120_000_000)),
        ("gap > 0.5s", earlier.Gap(">", 500_000_000)),
        ("step<50us", earlier.Step("<", 50_000)),
        ("at:12.5s..13.1s", terms.At(12_500_000_000, 13_100_000_000)),
        ("at:1min..", terms.At(60_000_000_000, None)),
        ("at:..2s", terms.At(None, 2_000_000_000)),
    ],
)
def test_terms(text: str, node: nodes.Node) -> None:
    assert parse(text, SCENE) == node


def test_side_by_side_means_and_which_binds_tighter_than_or() -> None:
    a, b, c = terms.Faults(terms.ANY_FAULT), terms.Length(">", 8), terms.Direction(True)
    assert parse("fault len>8") == parse("fault and len>8") == nodes.All((a, b))
    assert parse("fault or len>8 dir:tx") == nodes.Any_((a, nodes.All((b, c))))
    assert parse("(fault or len>8) dir:tx") == nodes.All((nodes.Any_((a, b)), c))
    assert parse("not fault len>8") == nodes.All((nodes.Not(a), b))
    assert parse("NOT (fault AND not len>8)") == nodes.Not(nodes.All((a, nodes.Not(b))))


@pytest.mark.parametrize(
    "text, position, what, expected",
    [
        ("faul", 0, "“faul” is not understood", "fault"),
        ("1A0", 0, "“1A0” is not understood", "id:1A0"),
        ("idd:1A0", 0, "not understood", "id:"),
        ("id:", 3, "the ask ends here", "an identifier in hex"),
        ("id:xyz", 3, "“xyz” is no hex number", "an identifier in hex"),
        ("gap>120", 4, "“120” is not understood", "a time with its unit"),
        ("len 3", 4, "“3” is not understood", "one of > >="),
        ("(id:1A0", 7, "the ask ends here", "a closing parenthesis"),
        ("id:220 or", 9, "the ask ends here", "a condition"),
        ("bus:hottel", 4, "no bus is called “hottel”", "Hotel"),
        ("fault name:PackOneStatu", 11, "no message is called", "PackOneStatus"),
        ("fault:crk", 6, "no fault class is called “crk”", "crc"),
        ("id:1AF..1A0", 3, "ends before it begins", "1A0..1AF"),
        ("id:18??..19", 3, "mixes ? with a range", "18FE??17"),
        ('bytes:"B"', 6, "is not bytes in hex", "5E ?? 04"),
        ('text:""', 5, "the text is empty", ""),
    ],
)
def test_wrong_asks_say_where_and_what_was_expected(text: str, position: int, what: str, expected: str) -> None:
    with pytest.raises(AskError) as caught:
        parse(text, SCENE)
    assert caught.value.position == position
    assert what in caught.value.what
    assert expected in " ".join(caught.value.expected)
    assert str(caught.value).startswith(f"at {position + 1}: ")


@given(st.text(max_size=40))
def test_any_text_parses_or_is_refused_politely(text: str) -> None:
    try:
        parse(text, SCENE)
    except AskError as error:
        assert 0 <= error.position <= len(text)


WORDS = st.lists(
    st.sampled_from(
        ["id:1A0", "fault", "or", "and", "not", "(", ")", "len>8", "gap>1ms", "at:1s..", "id:", '"', "text:a"]
    ),
    max_size=8,
)


@given(WORDS)
def test_any_row_of_words_parses_or_is_refused_politely(words: list[str]) -> None:
    try:
        parse(" ".join(words), SCENE)
    except AskError as error:
        assert 0 <= error.position <= len(" ".join(words))


def test_times_are_exact() -> None:
    assert duration_ns("0.1s") == 100_000_000
    assert duration_ns("1.000000001s") == 1_000_000_001
    with pytest.raises(ValueError, match="not a time"):
        duration_ns("12")
