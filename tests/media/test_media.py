"""Identifiers of every form, known and unknown: written, asked for, stored in dictionaries, printed by commands."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.ask.language import parse
from keel.ask.narrowing import of_ident
from keel.ask.terms import Ids
from keel.media.every import MEDIA, NONE, form_named, form_of, format_ident, forms, medium_of, usual_form
from keel.media.medium import IdentForm
from keel.model.bus import Bus
from keel.model.fields import BitField
from keel.model.frames import Flag
from keel.model.identity import IDENT_MASK, NO_IDENT
from keel.opened import Opened
from keel.signals.dictionary import Dictionary, Message
from keel.signals.signal import Signal
from keel.signals.stored import messages_from_json, messages_to_json
from tests.command import keel
from tests.making import START, Row, batch, recorded

SERIAL, LATER = 2, 200
"""A form that is known without a medium, and one of a Keel to come."""


def wants(ask: str, form: int, ident: int) -> bool:
    node = parse(ask)
    assert isinstance(node, Ids)
    return any(one.wants(form, ident) for one in node.ranges)


def test_no_number_and_no_word_of_a_form_is_used_twice() -> None:
    known = list(forms())
    assert len({form.number for form in known}) == len({form.word for form in known}) == len(known)
    assert all(form.bits <= 48 and form_named(form.word) == form_of(form.number) == form for form in known)
    assert len({medium.name for medium in MEDIA}) == len(MEDIA)


@given(st.sampled_from([*forms(), form_of(LATER)]), st.integers(0, IDENT_MASK))
def test_the_ask_for_an_identifier_finds_it_and_not_the_next(form: IdentForm, number: int) -> None:
    ident = number & form.most if form != NONE else 0
    ask = str(of_ident(form.number, ident))
    assert wants(ask, form.number, ident)
    assert form == NONE or not wants(ask, form.number, (ident + 1) & form.most)
    # Of what is written in other ways, the identifier alone means every role.
    assert wants(str(of_ident(form.number, ident, form.role)), form.number, ident)
    if form.role or form.read is not None:
        assert wants(str(of_ident(form.number, ident, form.word)), form.number, ident)


@pytest.mark.parametrize(
    "ask, form, ident, found",
    [
        ("id:0", SERIAL, 0, True),
        ("id:033", LATER, 0x33, True),
        ("id:33", 0, 0x33, True),
        ("id:33", 1, 0x33, False),
        ("id:00000033", 0, 0x33, False),
        ("id:00000033", SERIAL, 0x33, True),
        ("id:1?", SERIAL, 0x1F, True),
        ("id:1?", SERIAL, 0x21F, False),
        ("id:10..1F", LATER, 0x18, True),
        ("id:none", SERIAL, 0, False),
        ("id:0", NO_IDENT, 0, False),
    ],
)
def test_digits_tell_forms_of_a_fixed_width_apart_and_no_others(ask: str, form: int, ident: int, found: bool) -> None:
    assert wants(ask, form, ident) == found


def test_a_dictionary_keeps_messages_of_any_form() -> None:
    signal = Signal("level", BitField(0, 8))
    book = Dictionary(tuple(Message("a", form, 7, f"M{form}", (signal,)) for form in (0, 1, SERIAL, LATER, NO_IDENT)))
    stored = messages_to_json(book)
    assert [m["form"] for m in stored] == ["base", "extended", "serial", "form-200", "none"]
    assert messages_from_json(stored) == book


def test_the_usual_form_is_the_narrowest_that_holds_the_identifier() -> None:
    assert [usual_form(n).word for n in (0, 0x7FF, 0x800, 0x1FFF_FFFF)] == ["base", "base", "extended", "extended"]


def test_a_bus_of_a_medium_nobody_knows_says_nothing_of_its_frames() -> None:
    strange = medium_of(Bus("x", medium="beam"))
    frame = batch([Row(START, 7, b"\x01")])
    assert strange.title == "beam" and strange.header(frame) == [] and dict(strange.says(0, 0, 0)) == {}


@pytest.fixture
def mixed(tmp_path: Path) -> Path:
    """Frames of CAN, of a form without a medium, of a later one, and an error frame."""
    found = [
        Row(START + i * 10_000_000, i % 3, bytes([i]), form=form) for i in range(30) for form in (0, SERIAL, LATER)
    ]
    found.append(Row(START + 400_000_000, 0, b"", form=NO_IDENT, flags=int(Flag.ERROR)))
    recorded(tmp_path / "r.keel", batch(found))
    return tmp_path / "r.keel"


def test_commands_print_frames_of_any_form_and_asks_find_them(mixed: Path) -> None:
    rows = [json.loads(line) for line in keel("frames", mixed, "--json").stdout.splitlines()]
    assert len(rows) == 91 and rows[2]["id"] == format_ident(LATER, 0) == "0" and rows[90]["id"] is None
    assert len(Opened(mixed).frames("id:0")) == 30 and len(Opened(mixed).frames("id:none")) == 1
    many: list[list[str | Path]] = [
        ["stats", mixed], ["stats", mixed, "--json"], ["frames", mixed], ["frames", mixed, "--csv"],
        ["hunt", mixed, "--structure"], ["export", mixed, mixed.with_suffix(".csv")], ["verify", mixed],
        ["compare", mixed, mixed], ["draw", "cycles", mixed, "-o", mixed.with_suffix(".svg")],
    ]  # fmt: skip
    for words in many:
        done = keel(*words)
        assert done.returncode == 0, (words, done.stderr)


def test_what_a_form_of_export_cannot_say_of_a_line_is_counted(mixed: Path) -> None:
    done = keel("export", mixed, mixed.with_suffix(".json"))
    assert "60 written without saying of what line their identifier is" in done.stderr


def test_ranges_of_card_commands_are_decimal_and_of_others_hex() -> None:
    command = form_named("card-command").number
    for ident in range(64):
        assert wants("id:17..20", command, ident) == (17 <= ident <= 20)
        assert wants("id:17..20", SERIAL, ident) == (0x17 <= ident <= 0x20)
    assert str(parse("id:17..20")) == "id:17..20"
    # In hex alone there is no such command.
    assert not any(wants("id:A..1F", command, ident) for ident in range(64))
