"""Bit fields: where they lie and what they read."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.errors import FieldError
from keel.model.fields import BitField, Order, extract, insert


def read_bit_by_bit(field: BitField, payload: bytes) -> int:
    """The slow obvious way: walk the convention one bit at a time."""
    bits = []
    at = field.start
    for _ in range(field.length):
        bits.append(payload[at // 8] >> (at % 8) & 1)
        if field.order == "little":
            at += 1
        else:
            at = at - 1 if at % 8 else at + 15
    if field.order == "big":
        bits.reverse()
    value = sum(bit << i for i, bit in enumerate(bits))
    if field.signed and bits[-1]:
        value -= 1 << field.length
    return value if value < 1 << 63 else value - (1 << 64)


def fields_in(size: int) -> st.SearchStrategy[BitField]:
    """Fields that fit in so many bytes."""

    def fits(parts: tuple[int, int, Order, bool]) -> bool:
        start, length, order, signed = parts
        return BitField(start, length, order, signed).last_byte < size

    orders: st.SearchStrategy[Order] = st.sampled_from(["little", "big"])
    parts = st.tuples(st.integers(0, size * 8 - 1), st.integers(1, 64), orders, st.booleans())
    return parts.filter(fits).map(lambda p: BitField(*p))


def value(field: BitField, payload: bytes) -> int:
    return int(extract(field, np.frombuffer(payload, np.uint8)[None, :])[0])


def test_little_endian_is_named_by_its_lowest_bit() -> None:
    assert value(BitField(0, 16), bytes.fromhex("3412")) == 0x1234
    assert value(BitField(4, 8), bytes.fromhex("4003")) == 0x34


def test_big_endian_is_named_by_its_highest_bit() -> None:
    assert value(BitField(7, 16, "big"), bytes.fromhex("1234")) == 0x1234
    # Twelve bits from the top of byte 0 to the middle of byte 1.
    assert value(BitField(7, 12, "big"), bytes.fromhex("1A05")) == 0x1A0
    assert BitField(7, 12, "big").bits == (12, 13, 14, 15, 0, 1, 2, 3, 4, 5, 6, 7)


def test_signed_fields_reach_below_zero() -> None:
    assert value(BitField(0, 8, "little", True), b"\xff") == -1
    assert value(BitField(0, 4, "little", True), b"\x08") == -8
    assert value(BitField(0, 64, "little", True), b"\xff" * 8) == -1


def test_within_one_byte_both_orders_read_the_same() -> None:
    payload = b"\xb5"
    assert value(BitField(2, 4), payload) == value(BitField(5, 4, "big"), payload) == 0b1101


@given(st.data())
def test_extract_agrees_with_reading_bit_by_bit(data: st.DataObject) -> None:
    payload = data.draw(st.binary(min_size=1, max_size=12))
    field = data.draw(fields_in(len(payload)))
    assert value(field, payload) == read_bit_by_bit(field, payload)


@given(st.data())
def test_what_is_inserted_is_extracted_and_nothing_else_moves(data: st.DataObject) -> None:
    before = data.draw(st.binary(min_size=1, max_size=12))
    field = data.draw(fields_in(len(before)))
    low, high = (
        (-(1 << field.length - 1), (1 << field.length - 1) - 1) if field.signed else (0, (1 << field.length) - 1)
    )
    wanted = data.draw(st.integers(max(low, -(1 << 63)), min(high, (1 << 63) - 1)))
    payloads = np.frombuffer(before, np.uint8)[None, :].copy()
    insert(field, payloads, np.array([wanted], np.int64))
    assert int(extract(field, payloads)[0]) == wanted
    changed = np.unpackbits(payloads[0] ^ np.frombuffer(before, np.uint8), bitorder="little")
    assert set(np.flatnonzero(changed)) <= set(field.bits)


@given(st.data())
def test_a_field_is_known_by_its_bits(data: st.DataObject) -> None:
    field = data.draw(fields_in(8))
    assert BitField.from_bits(field.bits, field.order, field.signed) == field


@pytest.mark.parametrize("start, length", [(0, 0), (0, 65), (-1, 4)])
def test_impossible_fields_are_refused(start: int, length: int) -> None:
    with pytest.raises(FieldError):
        BitField(start, length)


def test_a_field_beyond_the_payload_is_refused() -> None:
    with pytest.raises(FieldError, match="does not fit in 2 bytes"):
        extract(BitField(10, 12), np.zeros((3, 2), np.uint8))
    with pytest.raises(FieldError, match="does not fit"):
        insert(BitField(10, 12), np.zeros((3, 2), np.uint8), np.zeros(3, np.int64))


@pytest.mark.parametrize(
    "field, words",
    [
        (BitField(9, 1), "bit 9"),
        (BitField(8, 2), "bits 8–9, little-endian"),
        (BitField(7, 12, "big"), "12 bits from 7, big-endian"),
        (BitField(0, 16, "little", True), "bits 0–15, little-endian, signed"),
    ],
)
def test_fields_say_where_they_are(field: BitField, words: str) -> None:
    assert field.words() == words
