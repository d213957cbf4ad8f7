"""Payloads to values and back: exact, rounded, refused."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.errors import FieldError
from keel.model.fields import BitField
from keel.model.identity import Form
from keel.signals.coding import decode, encode, encode_raw, to_raw
from keel.signals.dictionary import Message
from keel.signals.signal import Signal, Standing

TEMPERATURE = Signal(
    "temperature", BitField(0, 8), 0.5, -40, "°C", least=-40, most=85, absent=((255, 255),), wrong=((250, 254),)
)
GEAR = Signal("gear", BitField(8, 3), texts={0: "park", 1: "reverse", 2: "drive"})


def message(*signals: Signal) -> Message:
    return Message("a", Form.BASE, 1, "M", signals)


def test_a_value_not_available_and_an_error_are_told_apart_from_values() -> None:
    payloads = np.array([[80], [255], [251], [0]], np.uint8)
    found = decode(message(TEMPERATURE), TEMPERATURE, payloads)
    assert found.standing.tolist() == [Standing.VALUE, Standing.NOT_AVAILABLE, Standing.ERROR, Standing.VALUE]
    assert found.values[[0, 3]].tolist() == [0.0, -40.0] and np.isnan(found.values[1:3]).all()
    assert found.raw.tolist() == [80, 255, 251, 0]
    assert TEMPERATURE.words(b"\xff") == "not available" and TEMPERATURE.words(b"\xfa") == "error"


def test_physical_values_are_rounded_to_the_nearest_raw_value() -> None:
    assert to_raw(TEMPERATURE, [20.2, 20.3, -40.2, np.nan]).tolist() == [120, 121, 0, 255]
    assert to_raw(GEAR, ["Drive", "park"]).tolist() == [2, 0]
    assert to_raw(TEMPERATURE, ["not available", "error"]).tolist() == [255, 254]


@pytest.mark.parametrize(
    "signal, value, words",
    [
        (TEMPERATURE, 85.5, "85.5 lies outside its range -40..85 °C"),
        (Signal("s", BitField(0, 4, signed=True)), 8, "8 does not fit in 4 bits, which reach -8..7"),
        (GEAR, "neutral", "no value called “neutral”; it has drive, park, reverse"),
        (Signal("s", BitField(0, 4)), np.nan, "s has no value for “not available”"),
    ],
)
def test_what_does_not_fit_is_refused_with_what_would(signal: Signal, value: object, words: str) -> None:
    with pytest.raises(FieldError, match=signal.name) as caught:
        to_raw(signal, [value])
    assert words in str(caught.value)


def test_ieee_numbers() -> None:
    single, double = Signal("f", BitField(0, 32), number="float"), Signal("d", BitField(7, 64, "big"), number="double")
    payload = np.frombuffer(np.float32(-1.5).tobytes(), np.uint8)[None, :]
    assert decode(message(single), single, payload).values.tolist() == [-1.5]
    swapped = np.frombuffer(np.array([6.25], ">f8").tobytes(), np.uint8)[None, :]
    assert decode(message(double), double, swapped).values.tolist() == [6.25]
    missing = np.frombuffer(np.float32(np.nan).tobytes(), np.uint8)[None, :]
    assert decode(message(single), single, missing).standing.tolist() == [Standing.NOT_AVAILABLE]


def test_a_nested_page_is_there_only_with_all_its_selectors() -> None:
    outer = Signal("outer", BitField(0, 4), role="selector")
    inner = Signal("inner", BitField(4, 4), role="selector", pages=((1, 1),), selector="outer")
    deep = Signal("deep", BitField(8, 8), pages=((2, 3),), selector="inner")
    payloads = np.array([[0x21, 7], [0x31, 8], [0x41, 9], [0x20, 10]], np.uint8)
    found = decode(message(outer, inner, deep), deep, payloads)
    assert found.rows.tolist() == [0, 1] and found.values.tolist() == [7.0, 8.0]


def test_encoding_leaves_all_other_bits_alone() -> None:
    payloads = np.full((2, 2), 0xFF, np.uint8)
    encode(message(TEMPERATURE, GEAR), {"gear": ["park", "reverse"], "temperature": [-40, 0]}, payloads)
    assert payloads.tolist() == [[0, 0xF8], [80, 0xF9]]
    with pytest.raises(FieldError, match="no signal “speed”; it has temperature, gear"):
        encode(message(TEMPERATURE, GEAR), {"speed": [1]}, payloads)


SCALES = [(1, 0), (0.1, -40), (1 / 256, 1000.5), (0.125, 0), (1e-7, 0), (-2.5, 0)]


@st.composite
def fields(draw: st.DrawFn) -> BitField:
    length = draw(st.integers(1, 52))
    start = draw(st.integers(0, 64 - length))
    little = BitField(start, length, signed=draw(st.booleans()))
    if draw(st.booleans()):
        return little
    # The same bits counted from the other end of eight bytes.
    return BitField(start // 8 * 8 + 7 - start % 8, length, "big", little.signed)


@given(fields(), st.lists(st.binary(min_size=8, max_size=8), min_size=1, max_size=20), st.sampled_from(SCALES))
def test_what_is_decoded_is_encoded_exactly_as_it_was(
    field: BitField, payloads: list[bytes], scaled: tuple[float, float]
) -> None:
    scale, offset = scaled
    signal = Signal("s", field, scale, offset)
    given_bytes = np.frombuffer(b"".join(payloads), np.uint8).reshape(-1, 8)
    found = decode(message(signal), signal, given_bytes)
    if field.length <= 40:
        made = given_bytes.copy()
        encode(message(signal), {"s": found.values}, made)
        assert (made == given_bytes).all()
    blank = given_bytes.copy()
    encode_raw(signal, np.zeros(len(blank), np.int64), blank)
    encode_raw(signal, found.raw, blank)
    assert (blank == given_bytes).all()
