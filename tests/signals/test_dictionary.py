"""Signals: values, words, and how they come about."""

from __future__ import annotations

import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.bench.messages import full_dictionary
from keel.model.fields import BitField
from keel.model.globs import SignalGlob
from keel.model.identity import Form, pack_key
from keel.signals.book import Book
from keel.signals.dictionary import Dictionary, Message, Signal, format_number
from keel.signals.stored import messages_from_json, messages_to_json

ANGLE = Signal("angle", BitField(7, 12, "big"), 0.1, 0.0, "°")
LOCK = Signal("lock", BitField(10, 2), texts={0: "free", 1: "engaged"})
RAMP = Message("a", Form.BASE, 0x220, "BowRampState", (ANGLE, LOCK))


def test_a_value_and_how_it_comes_about() -> None:
    payload = bytes.fromhex("1A04")
    assert ANGLE.words(payload) == "41.6 °"
    assert ANGLE.arithmetic(payload) == "bits 7–0, 15–12 big: 1A0 hex = 416; × 0.1 = 41.6 °"
    assert LOCK.words(payload) == "engaged"
    assert LOCK.arithmetic(payload) == "bits 11–10: 1 = “engaged”"
    shifted = Signal("t", BitField(0, 8), 1, -40, "°C")
    assert shifted.arithmetic(b"\x47") == "bits 7–0: 47 hex = 71; − 40 = 31 °C" and shifted.words(b"\x47") == "31 °C"


def test_values_come_as_columns() -> None:
    payloads = np.array([[0x00, 0x00], [0x1A, 0x00], [0x26, 0xC0]], np.uint8)
    assert ANGLE.values(payloads).tolist() == pytest.approx([0.0, 41.6, 62.0])


def test_a_signal_beyond_the_payload_says_nothing() -> None:
    assert ANGLE.words(b"\x1a") is None
    assert [s.name for s in RAMP.present(b"\x1a")] == []
    assert [s.name for s in RAMP.present(b"\x1a\x04")] == ["angle", "lock"]


def test_a_selector_says_which_page_is_there() -> None:
    page = Signal("page", BitField(0, 8), role="selector")
    one, two = Signal("one", BitField(8, 8), pages=((1, 1),)), Signal("two", BitField(8, 8), pages=((2, 2),))
    message = Message("a", Form.BASE, 1, "Paged", (page, one, two))
    assert [s.name for s in message.present(b"\x01\x10")] == ["page", "one"]
    assert [s.name for s in message.present(b"\x02\x10")] == ["page", "two"]
    assert [s.name for s in message.present(b"\x03\x10")] == ["page"]


def test_messages_are_found_by_key_on_the_buses_there_are() -> None:
    dictionary = Dictionary((RAMP, Message("elsewhere", Form.BASE, 1, "Other")))
    book = Book([dictionary], ["x", "a"])
    assert book.message(pack_key(1, Form.BASE, 0x220)) == RAMP
    assert book.message(pack_key(0, Form.BASE, 0x220)) is None and book.message(pack_key(0, Form.BASE, 1)) is None
    assert dictionary.find("a", Form.EXTENDED, 0x220) is None


def test_the_first_dictionary_has_precedence_and_others_fill_what_it_leaves_free() -> None:
    own = Dictionary((Message("a", Form.BASE, 0x220, "Message220", (LOCK,)),))
    other = Signal("over", BitField(11, 3))
    free = Signal("free", BitField(24, 8))
    book = Book([own, Dictionary((Message("", Form.BASE, 0x220, "Ramp", (other, free), cycle_ms=50),))], ["a"])
    found = book.message(pack_key(0, Form.BASE, 0x220))
    assert found is not None and found.name == "Ramp" and found.cycle_ms == 50
    assert [s.name for s in found.signals] == ["lock", "free"]
    assert [s.name for s in book.signals(pack_key(0, 0, 0x220), SignalGlob.read("r*.f???"))] == ["free"]


@pytest.mark.parametrize(
    "ident, known",
    # PDU2: whatever priority and source; PDU1: whatever destination, too. Source: SAE J1939-21, 5.2.
    [(0x0CFEEE31, "Wide"), (0x18FEEF00, None), (0x1CEC1234, "Addressed"), (0x19FEEE00, None)],
)
def test_a_parameter_group_is_known_whoever_sends_it(ident: int, known: str | None) -> None:
    messages = (
        Message("", Form.EXTENDED, 0x18FEEEFE, "Wide", by_group=True),
        Message("", Form.EXTENDED, 0x18ECFF00, "Addressed", by_group=True),
    )
    found = Book([Dictionary(messages)], ["a"]).message(pack_key(0, Form.EXTENDED, ident))
    assert (found.name if found else None) == known


def test_a_kept_signal_joins_its_message_and_can_be_dropped() -> None:
    dictionary = Dictionary((RAMP,))
    new = Signal("command", BitField(0, 2), note="kept")
    more = dictionary.with_signal("a", Form.BASE, 0x220, new)
    message = more.find("a", Form.BASE, 0x220)
    assert message is not None and [s.name for s in message.signals] == ["angle", "command", "lock"]
    assert more.without_signal("a", Form.BASE, 0x220, "command") == dictionary
    fresh = Dictionary().with_signal("b", Form.EXTENDED, 0x18FE0017, new)
    assert fresh.messages[0].name == "Message18FE0017"
    again = more.with_signal("a", Form.BASE, 0x220, Signal("command", BitField(0, 3)))
    found = again.find("a", Form.BASE, 0x220)
    assert found is not None and [s.field.length for s in found.signals if s.name == "command"] == [3]


def test_a_dictionary_survives_json() -> None:
    dictionary = full_dictionary()
    assert messages_from_json(json.loads(json.dumps(messages_to_json(dictionary)))) == dictionary


@pytest.mark.parametrize(
    "value, step, text",
    [
        (416, 1, "416"),
        (41.6, 0.1, "41.6"),
        (19.25, 0.25, "19.25"),
        (18.75, 0.03125, "18.750"),
        (-30.105, 1e-7, "-30.1050000"),
    ],
)
def test_numbers_have_the_decimals_that_their_step_deserves(value: float, step: float, text: str) -> None:
    assert format_number(value, step) == text


@given(st.floats(-1e9, 1e9), st.floats(1e-9, 1e6))
def test_any_number_can_be_written(value: float, step: float) -> None:
    assert float(format_number(value, step)) == pytest.approx(value, abs=max(step, 0.06), rel=1e-6)
