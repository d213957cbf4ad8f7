"""Names, identifiers and spans: worked by hand, and for any text and any time."""

from __future__ import annotations

import unicodedata

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from keel.media.can import parameter_group
from keel.media.every import format_ident, key_words
from keel.model.bus import Bus, bus_name, wire_ns
from keel.model.faults import FAULT_BY_WORD, Fault, fault_words
from keel.model.globs import Glob, SignalGlob
from keel.model.identity import Form, pack_key, pack_keys, unpack_key
from keel.model.safe_text import ascii_of, csv_cell, plain, uncsv
from keel.model.span import Mark, Span, around, moved, pair_up

TIMES = st.integers(-(2**60), 2**60)
SPANS = st.tuples(TIMES, st.integers(1, 2**59)).map(lambda s: Span(s[0], s[0] + s[1]))


# Text from outside.


@given(st.text(max_size=300), st.integers(2, 250))
def test_no_text_brings_a_control_character_or_runs_over(text: str, most: int) -> None:
    shown = plain(text, most)
    assert len(shown) <= most
    assert not [c for c in shown if unicodedata.category(c)[0] == "C"]
    if len(text) <= most:
        # Sign for sign, and harmless text is left alone.
        assert len(shown) == len(text) and all(a == b or a == "·" for a, b in zip(shown, text, strict=True))
        assert plain(shown, most) == shown


@pytest.mark.parametrize(
    "text, shown",
    [
        ("\x1b[31mred\x1b[0m", "·[31mred·[0m"),
        ("two\nlines\ttab", "two·lines·tab"),
        ("abc\u202edcba", "abc·dcba"),
        ("\ufeffmark", "·mark"),
        ("Ölstand °C", "Ölstand °C"),
        ("", ""),
    ],
)
def test_what_would_steer_a_terminal_is_shown_as_a_point(text: str, shown: str) -> None:
    assert plain(text) == shown


@given(st.binary(max_size=64))
def test_a_payload_as_text_has_a_sign_for_each_byte(payload: bytes) -> None:
    text = ascii_of(payload)
    assert len(text) == len(payload)
    assert all(c == chr(b) if 32 <= b < 127 else c == "·" for c, b in zip(text, payload, strict=True))


@given(st.text(max_size=40))
def test_no_cell_is_a_formula_and_each_comes_back(text: str) -> None:
    assume(len(text) <= 200)
    cell = csv_cell(text)
    assert not cell.startswith(("=", "+", "-", "@"))
    assert uncsv(cell) == plain(text)


# Names with what may vary.


@pytest.mark.parametrize(
    "word, fits, not_fits",
    [
        ("Pack*", ["Pack", "PackOne", "PACKTWO"], ["Pac", "aPack"]),
        ("?ack", ["Pack", "Rack"], ["ack", "PPack"]),
        ('"Pack \\* one"', ["Pack * one"], ["Pack x one", "Pack  one"]),
        ('"a \\" b"', ['a " b'], ["a b"]),
        ('"back\\\\slash"', ["back\\slash"], ["backslash"]),
        ("a.b", ["a.b", "A.B"], ["axb"]),
        ("[ab]", ["[ab]"], ["a", "b"]),
        ("Straße", ["straße", "STRASSE"], ["strase"]),
        ("*", ["", "anything", "two\nlines"], []),
    ],
)
def test_what_a_pattern_means(word: str, fits: list[str], not_fits: list[str]) -> None:
    pattern = Glob.read(word)
    assert all(map(pattern.fits, fits)) and not any(map(pattern.fits, not_fits))


@given(st.text(max_size=20))
def test_the_pattern_of_a_name_fits_it_and_comes_back_as_written(name: str) -> None:
    pattern = Glob.literal(name)
    assert pattern.fits(name) and pattern.name == name and not pattern.has_wildcards
    assert Glob.read(pattern.in_quotes) == pattern
    assert pattern.among([name, name + "x"]) == frozenset({name})


def test_the_exact_spelling_comes_before_other_cases() -> None:
    assert Glob.read("a").among(["a", "A", "b"]) == {"a"}
    assert Glob.read("A").among(["a", "b"]) == {"a"}
    assert Glob.read("bus*").among(["Bus0", "bus1", "can0"]) == {"Bus0", "bus1"}
    assert Glob.read("x").among(["a"]) == set()


@pytest.mark.parametrize(
    "word, message, signal",
    [
        ("Pump.on", "Pump", "on"),
        ("on", None, "on"),
        ("Pack.One.on", "Pack.One", "on"),
        ('"Pack One"."on.off"', "Pack One", "on.off"),
        ('Pump."is on"', "Pump", "is on"),
        ('"Pack.One".on', "Pack.One", "on"),
    ],
)
def test_a_signal_is_named_with_or_without_its_message(word: str, message: str | None, signal: str) -> None:
    pattern = SignalGlob.read(word)
    assert (pattern.message.name if pattern.message else None, pattern.signal.name) == (message, signal)
    assert pattern.fits(message or "any", signal) and not pattern.fits(message or "any", signal + "x")


@given(st.text(min_size=1, max_size=12), st.text(min_size=1, max_size=12))
def test_any_signal_can_be_named(message: str, signal: str) -> None:
    pattern = SignalGlob.literal(message, signal)
    again = SignalGlob.read(str(pattern))
    assert again.fits(message, signal) and str(again) == str(pattern)


# Identifiers.


@given(st.integers(0, 255), st.sampled_from(list(Form)), st.integers(0, 2**48 - 1))
def test_keys_hold_bus_form_and_identifier(bus: int, form: Form, ident: int) -> None:
    key = pack_key(bus, form, ident)
    assert unpack_key(key) == (bus, form, ident) and key < 2**64
    column = pack_keys(np.array([bus], np.uint8), np.array([form], np.uint8), np.array([ident], np.uint64))
    assert int(column[0]) == key
    assert key_words(key) == format_ident(form, ident)


@pytest.mark.parametrize(
    "form, ident, text",
    [
        (Form.BASE, 0, "000"),
        (Form.BASE, 0x7FF, "7FF"),
        (Form.EXTENDED, 0x7FF, "000007FF"),
        (Form.EXTENDED, 0x18FEF117, "18FEF117"),
        (Form.SERIAL, 0x1F, "1F"),
        (Form.NONE, 0, "—"),
    ],
)
def test_identifiers_as_people_write_them(form: Form, ident: int, text: str) -> None:
    assert format_ident(form, ident) == text


@pytest.mark.parametrize(
    "ident, group",
    [
        # SAE J1939-21, 5.2: PDU format 240 and more is a broadcast, its group extension belongs to the number.
        (0x18FEF117, 0xFEF1),
        (0x0CF00400, 0xF004),
        # Below 240 the second byte is a destination, and is no part of it.
        (0x18EF2117, 0xEF00),
        (0x18EAFF17, 0xEA00),
        # The data page is.
        (0x19FEF117, 0x1FEF1),
    ],
)
def test_the_parameter_group_of_an_identifier(ident: int, group: int) -> None:
    assert parameter_group(ident) == group


def test_buses_have_names_and_rates() -> None:
    assert bus_name("") == "bus" and bus_name("a\x1bb") == "a·b"
    buses = [Bus("a", 500_000, 2_000_000), Bus("b", 250_000, 250_000)]
    # 100 bits at 500 kbit/s take 200 µs, 40 at 2 Mbit/s 20 µs; at 250 kbit/s all 140 take 560 µs.
    times = wire_ns(np.array([0, 1]), np.array([100, 100]), np.array([40, 40]), buses)
    assert times.tolist() == [220_000.0, 560_000.0]


def test_every_fault_has_a_word_and_a_title() -> None:
    assert all(fault.title for fault in Fault) and len(FAULT_BY_WORD) == len(list(Fault))
    assert fault_words(int(Fault.CRC | Fault.BUS_OFF)) == ["crc", "bus-off"] and fault_words(0) == []
    assert all(FAULT_BY_WORD[fault.word] is fault and fault.title for fault in Fault)


# Spans.


@given(SPANS, st.integers(1, 2000))
def test_edges_cut_a_span_evenly_and_exactly(span: Span, cells: int) -> None:
    edges = span.edges(cells)
    steps = np.diff(edges)
    assert int(edges[0]) == span.start and int(edges[-1]) == span.end
    assert int(steps.max()) - int(steps.min()) <= 1 and len(edges) == cells + 1


@given(SPANS, SPANS)
def test_what_is_clipped_lies_inside(span: Span, whole: Span) -> None:
    inside = span.clipped(whole)
    assert whole.start <= inside.start < inside.end <= whole.end
    assert inside.length == min(span.length, whole.length)
    if whole.start <= span.start and span.end <= whole.end:
        assert inside == span


@given(SPANS, st.sampled_from(["earlier", "later", "in", "out"]), SPANS)
def test_a_lens_stays_within_the_recording(span: Span, change: str, whole: Span) -> None:
    lens = moved(span, change, whole)
    if lens is not None:
        assert whole.start <= lens.start and lens.end <= whole.end and lens.length < whole.length


def test_a_lens_is_moved_by_quarters_halved_and_doubled() -> None:
    whole, lens = Span(0, 100_000_000), Span(40_000_000, 48_000_000)
    assert moved(lens, "later", whole) == Span(42_000_000, 50_000_000)
    assert moved(lens, "earlier", whole) == Span(38_000_000, 46_000_000)
    assert moved(lens, "in", whole) == Span(42_000_000, 46_000_000)
    assert moved(lens, "out", whole) == Span(36_000_000, 52_000_000)
    assert moved(Span(0, 60_000_000), "out", whole) is None
    # At the ends it stops, as long as it is.
    assert moved(Span(95_000_000, 99_000_000), "later", whole) == Span(96_000_000, 100_000_000)


def test_marks_make_spans() -> None:
    marks = [Mark(3, 30), Mark(1, 10), Mark(2, 20), Mark(4, 45), Mark(5, 60)]
    assert pair_up(marks) == [Span(10, 20), Span(30, 45)]
    assert pair_up(marks[:1]) == []
    (about,) = around([Mark(1, 5_000_000_000)], 0.5, 2.0)
    assert about == Span(4_500_000_000, 7_000_000_000) and about.seconds == 2.5
