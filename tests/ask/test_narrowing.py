"""Asks that are built: every condition is written so that it is read back, with any names, and narrowed as meant."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.ask import context, earlier, nodes, terms
from keel.ask.hints import ambiguities, unmet
from keel.ask.language import parse
from keel.ask.narrowing import of_bus, of_key, of_key_among, of_message, only, without
from keel.ask.nodes import Node, Scene
from keel.ask.signals import SignalIs, SignalMoves, Wanted
from keel.ask.terms import IdRange
from keel.ask.times import duration_ns, time_text
from keel.errors import AskError
from keel.model.faults import Fault
from keel.model.globs import Glob, SignalGlob, quoted, unquoted
from keel.model.identity import Form, pack_key
from keel.model.span import Span
from keel.signals.book import Book
from keel.signals.dictionary import Dictionary, Message

names = st.text(min_size=1, max_size=12)
places = st.integers(0, 999_999_999)
compares = st.sampled_from(sorted(terms.COMPARISONS))
times = st.one_of(st.integers(0, 10**6), st.integers(0, 1 << 61))


@st.composite
def id_ranges(draw: st.DrawFn) -> IdRange:
    form, most = draw(st.sampled_from([(Form.BASE, 0x7FF), (Form.EXTENDED, 0x1FFFFFFF)]))
    low = draw(st.integers(0, most))
    if draw(st.booleans()):
        return IdRange(low, low, None, form)
    wild = draw(st.sampled_from([0xF, 0xF0, 0xFF])) & most
    return IdRange(low & ~wild, 0, (0xFFF if form == Form.BASE else 0xFFFFFFFF) & ~wild, form)


globs = names.map(Glob.literal) | names.map(lambda name: Glob(Glob.literal(name).text + "*"))
signals = st.builds(SignalGlob, globs, globs)
wanted = st.builds(Wanted, compares, st.floats(allow_nan=False, allow_infinity=False).map(lambda x: Glob(repr(x))))
some = {"min_size": 1, "max_size": 3}
leaves: st.SearchStrategy[Node] = st.one_of(
    st.builds(terms.Ids, st.lists(id_ranges(), **some).map(tuple)),  # type: ignore[arg-type]
    st.just(terms.Ids((IdRange(0, 0, None, Form.NONE),))),
    st.builds(terms.Buses, st.lists(globs, **some).map(tuple)),  # type: ignore[arg-type]
    st.builds(terms.Names, st.lists(globs, **some).map(tuple)),  # type: ignore[arg-type]
    st.builds(terms.Direction, st.booleans()),
    st.builds(terms.Length, compares, places),
    st.builds(terms.HasBytes, st.lists(st.none() | st.integers(0, 255), **some).map(tuple), st.none() | places),  # type: ignore[arg-type]
    st.builds(terms.HasText, names),
    st.builds(terms.Bit, places, st.integers(0, 1)),
    st.builds(earlier.Moved, st.none() | places),
    st.just(terms.Faults(terms.ANY_FAULT)),
    st.lists(st.sampled_from(list(Fault)), **some).map(lambda found: terms.Faults(sum(set(map(int, found))))),  # type: ignore[arg-type]
    st.builds(earlier.Gap, compares, times),
    st.builds(earlier.Step, compares, times),
    st.tuples(times, times).map(lambda t: terms.At(min(t), max(t))),
    st.builds(terms.At, st.none(), st.none() | times) | st.builds(terms.At, times, st.none()),
    st.builds(SignalIs, signals, wanted),
    st.builds(SignalMoves, signals, st.sampled_from(["rises", "falls", "changes"])),
    st.builds(SignalMoves, signals, st.just("becomes"), st.builds(Wanted, st.sampled_from(["=", "!="]), globs)),
)


def joined(inner: st.SearchStrategy[Node]) -> st.SearchStrategy[Node]:
    several = st.lists(inner, min_size=2, max_size=3)
    return st.one_of(
        several.map(lambda parts: nodes.all_of(*parts)),
        several.map(lambda parts: nodes.any_of(*parts)),
        inner.map(nodes.Not),
        st.builds(context.Near, inner, times),
        st.builds(context.Then, inner, inner, times),
    )


conditions = st.recursive(leaves, joined, max_leaves=6)


@given(conditions)
def test_every_condition_is_read_as_it_was_written(node: Node) -> None:
    assert parse(str(node)) == node


@given(conditions, conditions)
def test_narrowed_asks_mean_both(ask: Node, term: Node) -> None:
    assert parse(only(str(ask), str(term))) == nodes.all_of(ask, term)
    assert parse(without(str(ask), str(term))) == nodes.all_of(ask, nodes.Not(term))
    # Narrowed once more it stays.
    assert only(only(str(ask), str(term)), str(term)) == only(str(ask), str(term))


@pytest.mark.parametrize(
    "ask, term, narrowed, without_it",
    [
        ("", "id:1A0", "id:1A0", "not id:1A0"),
        ("bus:a", "id:1A0", "bus:a id:1A0", "bus:a not id:1A0"),
        ("bus:a or fault", "len>4", "(bus:a or fault) len>4", "(bus:a or fault) not len>4"),
        ("id:100 or(id:200)", "fault", "(id:100 or id:200) fault", "(id:100 or id:200) not fault"),
        ("not fault", "fault", "not fault fault", "not fault"),
        ("", "moved id:1A0", "moved id:1A0", "not (moved id:1A0)"),
        ("fault then id:1 within 1s", "id:1", "(fault then id:001 within 1s) id:001", None),
        ('bus:"engine bus"', "fault", 'bus:"engine bus" fault', 'bus:"engine bus" not fault'),
        ("bus:Gone id:zz", "fault", "fault", "not fault"),
    ],
)
def test_narrowing_in_words(ask: str, term: str, narrowed: str, without_it: str | None) -> None:
    assert only(ask, term) == narrowed
    assert without_it is None or without(ask, term) == without_it


@given(st.lists(names, min_size=1, max_size=5, unique=True), st.data())
def test_any_bus_and_message_can_be_asked_for_by_its_name(known: list[str], data: st.DataObject) -> None:
    name = data.draw(st.sampled_from(known))
    messages = Dictionary(tuple(Message("", Form.BASE, n, one) for n, one in enumerate(known)))
    scene = Scene(tuple(known), Book([messages], known))
    by_bus, by_name = parse(str(of_bus(name)), scene), parse(str(of_message(name)), scene)
    assert isinstance(by_bus, terms.Buses) and by_bus.meant(scene) == {name}
    assert isinstance(by_name, terms.Names) and by_name.meant(scene) == {name}


@given(names)
def test_texts_come_back_from_their_quotes(text: str) -> None:
    assert unquoted(quoted(text)) == text


@given(st.integers(0, 1 << 62))
def test_times_come_back_exactly(ns: int) -> None:
    assert duration_ns(time_text(ns)) == ns


def test_an_identifier_names_its_bus_only_where_another_has_it_too() -> None:
    keys = [pack_key(0, Form.BASE, 0x100), pack_key(1, Form.BASE, 0x100), pack_key(1, Form.EXTENDED, 0x100)]
    assert str(of_key_among(keys[0], "my bus", keys)) == 'id:100 bus:"my bus"'
    assert str(of_key_among(keys[2], "my bus", keys)) == "id:00000100"
    assert str(of_key(pack_key(0, Form.NONE, 0), "a")) == "id:none bus:a"


SCENE = Scene(("Engine bus", "A", "a", "Can0", "can1"), Book([]))


@pytest.mark.parametrize(
    "ask, buses",
    [
        ('bus:"engine bus"', {"Engine bus"}),
        ('bus:"ENGINE*"', {"Engine bus"}),
        ("bus:can*", {"Can0", "can1"}),
        ("bus:CAN?", {"Can0", "can1"}),
        ("bus:A", {"A"}),
        ("bus:a", {"a"}),
        ("bus:?", {"A", "a"}),
    ],
)
def test_buses_are_meant_by_name_and_by_pattern(ask: str, buses: set[str]) -> None:
    node = parse(ask, SCENE)
    assert isinstance(node, terms.Buses) and node.meant(SCENE) == buses


def test_what_means_two_names_that_differ_in_case_says_so() -> None:
    assert ambiguities(parse("bus:? fault", SCENE), SCENE) == ["bus:? means 2 buses: A, a"]
    assert ambiguities(parse("not bus:a", SCENE), SCENE) == ["bus:a means a; the buses A differ in case and are others"]
    assert ambiguities(parse("bus:can0", SCENE), SCENE) == []


@pytest.mark.parametrize(
    "ask, expected",
    [
        ("id:800", "id:00000800"),
        ("id:8??", "more than 11 bits hold"),
        ("id:20000000", "more than 29 bits hold"),
        ("at:5s..1s", "at:1s..5s"),
        ("bit@99999999999999999999:1", "beyond any payload"),
        ("len>99999999999999999999", "beyond any payload"),
        ("gap>99999999999999999999s", "longer than any recording"),
        ("bus:can7", "can1"),
        ("bus:engine", '"Engine bus"'),
        ("not " * 3000 + "fault", "more than 100 deep"),
        ("near(" * 3000 + "fault" + " within 1s)" * 3000, "more than 100 deep"),
    ],
)
def test_what_could_never_match_is_refused_with_what_was_meant(ask: str, expected: str) -> None:
    with pytest.raises(AskError) as caught:
        parse(ask, SCENE)
    assert expected in str(caught.value)


def test_what_anybody_would_type_is_taken() -> None:
    assert parse("id:0xC4") == parse("id:C4") == parse("id:0C4")
    assert parse("id:0xC0..0xC4,none") == parse("id:C0..C4,NONE")
    assert parse('bytes:"0x5E 01"') == parse("bytes:0x5E01") == parse("bytes:5E01")
    assert parse("(" * 3000 + "fault" + ")" * 3000) == parse("fault")


def test_a_wildcard_leaves_the_digits_before_it_as_they_are() -> None:
    node = parse("id:1?")
    assert isinstance(node, terms.Ids)
    assert [ident for ident in range(0x800) if node.ranges[0].wants(Form.BASE, ident)] == list(range(0x10, 0x20))


def test_what_matches_nothing_says_what_may_have_been_meant() -> None:
    keys = [pack_key(0, Form.BASE, 0x100), pack_key(0, Form.EXTENDED, 0x1A0)]
    whole = Span(0, 2_000_000_001)
    assert unmet(parse("id:0100"), SCENE, keys, whole) == [
        "id:00000100 is not there; the 11-bit identifier of that number is id:100"
    ]
    assert unmet(parse("fault id:1A0"), SCENE, keys, whole) == [
        "id:1A0 is not there; the 29-bit identifier of that number is id:000001A0"
    ]
    assert unmet(parse("at:5s.."), SCENE, keys, whole) == ["at:5s.. lies beyond the end: the recording ends at 2s"]
    assert unmet(parse("id:100 fault"), SCENE, keys, whole) == []
