"""The common signal-database text form, read and written back; errors cost one statement."""

from __future__ import annotations

from hypothesis import given, settings
from hypothesis import strategies as st

from keel.model.fields import BitField
from keel.signals.database import EXTENDED_BIT, Database, DbMessage, DbSignal, Multiplexing
from keel.signals.dbc import parse_dbc
from keel.signals.dbc_out import write_dbc

HARBOUR = """VERSION "1.0"

NS_ :
\tNS_DESC_
\tCM_
\tVAL_TABLE_

BS_:

BU_: Helm Pod "
VAL_TABLE_ OnOff 1 "on" 0 "off" ;

BO_ 416 PackStatus: 8 Pod
 SG_ voltage : 7|16@0+ (0.1,0) [0|6553.5] "V" Helm
 SG_ temp : 16|8@1- (1,-40) [-168|87] "°C" Helm,Pod
 SG_ pump : 24|1@1+ (1,0) [0|1] "" Helm
 SG_ level : 32|32@1- (1,0) [0|0] "m" Helm

BO_ 2566834709 Genset: 8 Pod
 SG_ page M : 0|4@1+ (1,0) [0|15] "" Helm
 SG_ sub m1M : 8|4@1+ (1,0) [0|15] "" Helm
 SG_ speed m0 : 16|16@1+ (0.125,0) [0|8031.875] "1/min" Helm
 SG_ load m2 : 16|8@1+ (1,-125) [-125|125] "%" Helm

BO_TX_BU_ 416 : Pod,Helm;
CM_ "All made up;
on two lines";
CM_ BO_ 416 "The pack says \\"ready\\".";
CM_ SG_ 416 temp "Warmest cell";
BA_DEF_ BO_ "GenMsgCycleTime" INT 0 65535;
BA_DEF_ "ProtocolType" STRING ;
BA_DEF_DEF_ "GenMsgCycleTime" 100;
BA_DEF_DEF_ "ProtocolType" "";
BA_ "ProtocolType" "J1939";
BA_ "GenMsgCycleTime" BO_ 416 20;
VAL_ 416 pump OnOff;
VAL_ 2566834709 page 0 "engine" 2 "load; all" ;
SIG_VALTYPE_ 416 level : 1;
SG_MUL_VAL_ 2566834709 load sub 2-3, 7-7;
SIG_GROUP_ 416 Together 1 : voltage temp;
ENVVAR_UNKNOWN_ something 1 2 3;
"""


def harbour() -> Database:
    return parse_dbc(HARBOUR.replace(' "\nVAL_TABLE', "\nVAL_TABLE").encode())


def test_everything_the_form_says_is_read() -> None:
    found = harbour()
    assert found.problems == [] and found.version == "1.0" and found.nodes == ["Helm", "Pod"]
    pack, genset = found.messages
    voltage, temp, pump, level = pack.signals
    assert voltage.field == BitField(7, 16, "big") and (voltage.scale, voltage.unit) == ("0.1", "V")
    assert temp.field == BitField(16, 8, "little", True) and temp.offset == "-40" and temp.unit == "°C"
    assert temp.receivers == ("Helm", "Pod") and temp.comment == "Warmest cell"
    assert pump.texts == {1: "on", 0: "off"} and level.number == "float"
    assert pack.senders == ("Pod", "Helm") and pack.comment == 'The pack says "ready".'
    assert genset.is_extended and genset.ident == 2566834709 - EXTENDED_BIT
    page, sub, speed, load = (s.multiplexing for s in genset.signals)
    assert page == Multiplexing(True) and sub == Multiplexing(True, 1) and speed == Multiplexing(False, 0)
    assert load == Multiplexing(False, 2, "sub", ((2, 3), (7, 7)))
    assert genset.signals[0].texts == {0: "engine", 2: "load; all"}
    assert found.comment == "All made up;\non two lines"
    assert found.attribute(pack, "GenMsgCycleTime") == "20" and found.attribute(genset, "GenMsgCycleTime") == "100"
    assert found.attributes == {"ProtocolType": '"J1939"'}
    assert [o.split()[0] for o in found.others] == ["SIG_GROUP_", "ENVVAR_UNKNOWN_"]


def test_what_is_read_is_written_back_the_same() -> None:
    first = harbour()
    written = write_dbc(first)
    second = parse_dbc(written)
    assert second == first and write_dbc(second) == written


def test_a_wrong_statement_is_told_with_its_place_and_costs_nothing_else() -> None:
    text = HARBOUR.replace(' "\nVAL_TABLE', "\nVAL_TABLE")
    text = text.replace("(1,-40) [-168", "(1;-40) [-168").replace("VAL_ 416 pump", "VAL_ 417 pump")
    found = parse_dbc(text.encode())
    told = [p.words() for p in found.problems]
    lines = text.split("\n")
    row = next(i for i, line in enumerate(lines, 1) if "temp :" in line)
    assert f"line {row}, column {lines[row - 1].index('(1;-40)') + 1}" in told[0] and "(scale,offset)" in told[0]
    assert any("message 417 is not defined" in t for t in told)
    assert [s.name for s in found.messages[0].signals] == ["voltage", "pump", "level"]
    assert len(found.messages) == 2 and found.messages[1].signals[2].name == "speed"


def test_a_field_outside_its_payload_is_refused() -> None:
    found = parse_dbc(b'BO_ 1 A: 2 N\n SG_ x : 0|24@1+ (1,0) [0|0] "" N\n SG_ y : 8|16@0+ (1,0) [0|0] "" N\n')
    assert [s.name for s in found.messages[0].signals] == []
    assert "does not fit in 2 bytes" in found.problems[0].what and found.problems[0].line == 2


def test_encodings_are_guessed_and_kept() -> None:
    line = 'BO_ 1 A: 8 N\n SG_ t : 0|8@1+ (1,0) [0|0] "°C" N\nCM_ "– {}";\n'
    for text, encoding in ((line, "utf-8"), (line.replace("– ", ""), "latin-1"), (line, "cp1252")):
        raw = text.replace("\n", "\r\n").encode(encoding)
        found = parse_dbc(raw)
        assert found.encoding == encoding and found.newline == "\r\n"
        assert found.messages[0].signals[0].unit == "°C"
        assert "°C".encode(encoding) in write_dbc(found) and b"\r\n" in write_dbc(found)


names = st.from_regex(r"[A-Za-z_][A-Za-z0-9_]{0,12}", fullmatch=True).filter(
    lambda n: not n.endswith("_") and n not in ("M",)
)
texts = st.text(
    st.characters(codec="utf-8", exclude_characters="\r\x00\x85\u2028\u2029", exclude_categories=["Cs", "Cc"]),
    max_size=20,
)


@st.composite
def databases(draw: st.DrawFn) -> Database:
    found = Database(version=draw(texts), nodes=draw(st.lists(names, max_size=3, unique=True)))
    for number in draw(st.lists(st.integers(0, 0x7FF), max_size=4, unique=True)):
        extended = draw(st.booleans())
        message = DbMessage(number | (EXTENDED_BIT if extended else 0), draw(names), 8, draw(names))
        for name in draw(st.lists(names, max_size=4, unique=True)):
            order = draw(st.sampled_from(["little", "big"]))
            length = draw(st.integers(1, 16))
            start = draw(st.integers(0, 48)) if order == "little" else draw(st.integers(0, 40))
            field = BitField(start, length, order, draw(st.booleans()))  # type: ignore[arg-type]
            if min(field.bits) < 0 or max(field.bits) > 63:
                continue
            message.signals.append(
                DbSignal(
                    name, field, draw(st.sampled_from(["1", "0.1", "-2.5E-3"])), draw(st.sampled_from(["0", "-40"])),
                    unit=draw(texts), receivers=tuple(draw(st.lists(names, max_size=2))),
                    texts=draw(st.dictionaries(st.integers(0, 99), texts, max_size=3)), comment=draw(texts),
                )
            )  # fmt: skip
        found.messages.append(message)
    return found


@given(databases())
@settings(max_examples=80, deadline=None)
def test_any_database_is_read_back_as_it_was_written(database: Database) -> None:
    read = parse_dbc(write_dbc(database))
    assert read.problems == []
    assert read.messages == database.messages and read.version == database.version


@given(st.binary(max_size=300))
def test_any_bytes_are_read_without_failing(raw: bytes) -> None:
    parse_dbc(raw)
    parse_dbc(HARBOUR.encode()[:500] + raw + HARBOUR.encode()[500:])
