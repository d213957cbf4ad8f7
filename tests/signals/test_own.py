"""Keel's own dictionary form, and what passes between it and the industry's text form."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.bench.messages import full_dictionary
from keel.errors import InputError
from keel.model.fields import BitField
from keel.model.identity import Form
from keel.signals.converting import from_database, to_database
from keel.signals.dbc import parse_dbc
from keel.signals.dbc_out import write_dbc
from keel.signals.dictionary import Dictionary, Message, TextField, merged
from keel.signals.loading import load_dictionary, save_dictionary
from keel.signals.shape import schema
from keel.signals.signal import Signal
from keel.signals.toml_form import parse_own, write_own

names = st.text(st.characters(codec="utf-8"), min_size=1, max_size=12)
ranges = st.lists(st.tuples(st.integers(0, 99), st.integers(100, 255)), max_size=2).map(tuple)
numbers = st.one_of(st.integers(-(10**6), 10**6), st.floats(-1e9, 1e9)).map(float)


@st.composite
def signals(draw: st.DrawFn) -> Signal:
    return Signal(
        draw(names),
        BitField(draw(st.integers(0, 400)), draw(st.integers(1, 64)), draw(st.sampled_from(["little", "big"]))),
        draw(numbers),
        draw(numbers),
        draw(names),
        draw(st.dictionaries(st.integers(-9, 300), names, max_size=3)),
        draw(st.sampled_from(["value", "counter", "checksum", "flag", "selector"])),
        draw(ranges),
        note=draw(names),
        selector=draw(names),
        least=draw(st.none() | numbers),
        absent=draw(ranges),
        wrong=draw(ranges),
        algorithm=draw(names),
        receivers=tuple(draw(st.lists(names, max_size=2))),
        found=draw(names),
    )


@st.composite
def dictionaries(draw: st.DrawFn) -> Dictionary:
    form, most = draw(
        st.sampled_from([(Form.BASE, 0x7FF), (Form.EXTENDED, 0x1FFFFFFF), (Form.SERIAL, 9), (Form.BLE, 2**47)])
    )
    texts = (TextField(draw(names), r"\$D,([0-9.]+)", draw(st.booleans()), draw(numbers), 0.0, draw(names)),)
    one = Message(
        draw(names),
        form,
        draw(st.integers(0, most)),
        draw(names),
        tuple(draw(st.lists(signals(), max_size=3))),
        draw(st.integers(0, 64)),
        draw(names),
        draw(st.floats(0, 1e5)),
        draw(st.booleans()),
        draw(names),
        draw(st.sampled_from([(), texts])),
    )
    return Dictionary((one,), draw(names), draw(names))


@given(dictionaries())
def test_what_is_written_is_read_back(dictionary: Dictionary) -> None:
    found, problems = parse_own(write_own(dictionary), "file")
    assert not problems and found == dictionary


@given(st.text(max_size=200))
def test_any_text_is_read_or_refused_with_a_reason(text: str) -> None:
    try:
        parse_own("keel = 1\n" + text, "file")
    except InputError as error:
        assert error.expected


WRONG = """keel = 1
colour = "red"

[[message]]
name = "One"
id = "1A0"
size = "8"

[[message.signal]]
name = "whole"
start = 0
length = 8

[[message.signal]]
name = "long"
start = 0
length = 80

[[message.signal]]
name = "turned"
start = 0
length = 8
order = "middle"

[[message]]
id = "1A1"

[[message]]
name = "Far"
id = "800"
form = "base"
"""


def test_what_is_wrong_is_told_with_its_line_and_costs_itself_alone() -> None:
    found, problems = parse_own(WRONG, "file")
    assert [(m.name, [s.name for s in m.signals]) for m in found.messages] == [("One", ["whole"])]
    told = {(p.line, p.what) for p in problems}
    assert told == {
        (1, "the file has the unknown key “colour”"),
        (4, "“size” of message “One” is '8'"),
        (14, "signal “One.long”: a field has 1 to 64 bits, not 80"),
        (19, "“order” of signal “One.turned” is 'middle'"),
        (25, "message 2 has no “name”"),
        (28, "“id” of message “Far” is 800"),
    }


@pytest.mark.parametrize(
    "text, what", [("keel = 2", "says keel = 2"), ("a = [", "is no TOML"), ("", "says keel = None")]
)
def test_what_is_no_dictionary_is_refused(text: str, what: str) -> None:
    with pytest.raises(InputError) as caught:
        parse_own(text, "file")
    assert what in caught.value.what


def test_the_schema_names_every_key_that_is_written() -> None:
    signal = schema()["properties"]["message"]["items"]["properties"]["signal"]["items"]
    made = tomllib.loads(write_own(full_dictionary()))
    signals = [signal for message in made["message"] for signal in message.get("signal", [])]
    written = {key for table in (made, *made["message"], *signals) for key in table} - {"message", "signal", "name"}
    known = (
        set(signal["properties"])
        | set(schema()["properties"]["message"]["items"]["properties"])
        | {"keel", "note", "text"}
    )
    assert written <= known and signal["required"] == ["name", "start", "length"]
    assert json.loads(json.dumps(schema())) == schema()


DBC = b"""VERSION ""
NS_ :
BS_:
BU_: Engine Dash
BO_ 2566844158 Temperature: 8 Engine
 SG_ coolant : 0|8@1+ (1,-40) [-40|210] "degC" Dash
 SG_ state : 8|2@1+ (1,0) [0|3] "" Dash
 SG_ full : 16|8@1+ (1,0) [0|255] "" Dash
BO_ 257 Paged: 8 Nobody__XXX
 SG_ page M : 0|8@1+ (1,0) [0|0] "" Nobody__XXX
 SG_ deep m1 : 15|16@0- (0.1,0) [0|0] "V" Nobody__XXX
BA_DEF_ BO_ "GenMsgCycleTime" INT 0 65535;
BA_DEF_ BO_ "VFrameFormat" ENUM "StandardCAN","ExtendedCAN","reserved","J1939PG";
BA_DEF_DEF_ "GenMsgCycleTime" 100;
BA_DEF_DEF_ "VFrameFormat" "StandardCAN";
BA_ "VFrameFormat" BO_ 2566844158 3;
BA_ "GenMsgCycleTime" BO_ 257 20;
VAL_ 2566844158 state 0 "off" 1 "on" 2 "error" 3 "not available" ;
"""


def test_a_database_becomes_a_dictionary() -> None:
    found, lost = from_database(parse_dbc(DBC))
    temperature, paged = found.messages
    assert lost == []
    assert (temperature.form, temperature.ident, temperature.by_group) == (Form.EXTENDED, 0x18FEEEFE, True)
    assert (temperature.cycle_ms, paged.cycle_ms, paged.sender, temperature.sender) == (100, 20, "", "Engine")
    coolant, state, full = temperature.signals
    # An 8-bit parameter whose range ends at 250 leaves FE for error and FF for not available; one to 255 does not.
    assert (coolant.absent, coolant.wrong) == (((255, 255),), ((254, 254),)) and (full.absent, full.wrong) == ((), ())
    assert (state.texts, state.absent, state.wrong) == ({0: "off", 1: "on"}, ((3, 3),), ((2, 2),))
    assert paged.signals[1].pages == ((1, 1),) and paged.signals[0].role == "selector"
    assert [s.name for s in paged.present(b"\x02" + bytes(7))] == ["page"]


def test_to_the_industrys_form_and_back_only_what_it_cannot_say_is_lost() -> None:
    whole = full_dictionary()
    database, lost = to_database(whole)
    again, _ = from_database(parse_dbc(write_dbc(database)))
    assert lost == ["35 buses of messages", "29 roles of counters, checksums and constants"]
    for before, after in zip(whole.messages, again.messages, strict=True):
        assert (before.name, before.ident, before.form) == (after.name, after.ident, after.form)
        for a, b in zip(before.signals, after.signals, strict=True):
            assert (a.name, a.field, a.scale, a.offset, a.unit, a.texts, a.pages, a.absent) == (
                b.name, b.field, b.scale, b.offset, b.unit, b.texts, b.pages, b.absent,
            )  # fmt: skip


def test_nested_pages_pass_both_ways() -> None:
    message = Message("", Form.BASE, 5, "Nested", (
        Signal("outer", BitField(0, 4), role="selector"),
        Signal("inner", BitField(4, 4), role="selector", pages=((1, 1),), selector="outer"),
        Signal("deep", BitField(8, 8), pages=((2, 3), (7, 7)), selector="inner"),
    ), 8)  # fmt: skip
    again, _ = from_database(parse_dbc(write_dbc(to_database(Dictionary((message,)))[0])))
    assert again.messages[0].signals == message.signals


def test_files_are_read_by_their_suffix(tmp_path: Path) -> None:
    for name in ("d.dbc", "d.toml"):
        save_dictionary(full_dictionary(), tmp_path / name)
        assert len(load_dictionary(tmp_path / name).dictionary.messages) == 35
    with pytest.raises(InputError, match=r"suffix “\.xml” says nothing"):
        save_dictionary(full_dictionary(), tmp_path / "d.xml")
    (tmp_path / "d.xml").write_text("<nothing/>")
    with pytest.raises(InputError, match="holds no message"):
        load_dictionary(tmp_path / "d.xml")
    with pytest.raises(InputError, match="cannot be read"):
        load_dictionary(tmp_path / "none.dbc")


def test_merging_keeps_what_comes_first() -> None:
    a = Message("", Form.BASE, 1, "A", (Signal("x", BitField(0, 8), 2.0),))
    b = Message("", Form.BASE, 1, "B", (Signal("x", BitField(8, 8)), Signal("y", BitField(8, 8))), 4)
    whole = merged([Dictionary((a,)), Dictionary((b, Message("", Form.BASE, 2, "C")))])
    assert [(m.name, m.size, [(s.name, s.scale) for s in m.signals]) for m in whole.messages] == [
        ("A", 4, [("x", 2.0), ("y", 1.0)]),
        ("C", 0, []),
    ]
