"""Payloads are taken apart from the traffic alone."""

from __future__ import annotations

import numpy as np
import pytest
from benchmarks.vehicles.judging import structure_scores
from benchmarks.vehicles.vehicle import vehicle
from hypothesis import given, settings
from hypothesis import strategies as st

from keel.hunt.checksums import bare, crc_table, find_checksum, wrong
from keel.hunt.columns import Column
from keel.hunt.counters import find_counters, skips
from keel.hunt.signedness import looks_signed
from keel.hunt.structure import structure_of, structures_of
from keel.model.fields import BitField, Order, insert
from keel.model.frames import Bytes


def frames(count: int = 1500, size: int = 8, seed: int = 1) -> Bytes:
    """A slow number, a counter, nothing else."""
    rng = np.random.default_rng(seed)
    rows = np.zeros((count, size), np.uint8)
    insert(BitField(15, 12, "big"), rows, (2000 + 1500 * np.sin(np.arange(count) / 60)).astype(np.int64))
    insert(BitField(32, 16), rows, np.cumsum(rng.integers(-9, 10, count)) + 30000)
    insert(BitField(48, 4), rows, np.arange(count) & 15)
    return rows


def test_crc_8_has_its_published_check_values() -> None:
    # Check values of the CRC of "123456789": SAE J1850 (start and end FF) 4B, 8H2F (start and end FF) DF, 07 F4.
    def crc(poly: int, start: int, end: int) -> int:
        value, table = start, crc_table(poly, False)
        for byte in b"123456789":
            value = int(table[value ^ byte])
        return value ^ end

    assert (crc(0x1D, 0xFF, 0xFF), crc(0x2F, 0xFF, 0xFF), crc(0x07, 0, 0)) == (0x4B, 0xDF, 0xF4)


@pytest.mark.parametrize(
    ("poly", "start", "end", "words"),
    [
        (0x1D, 0xFF, 0xFF, "CRC-8 polynomial 1D (SAE J1850), start FF, end FF"),
        (0x07, 0x00, 0x00, "CRC-8 polynomial 07, start 00, end 00"),
        (0xA7, 0x3C, 0x00, "CRC-8 polynomial A7, with a constant"),
    ],
)
def test_a_crc_is_named(poly: int, start: int, end: int, words: str) -> None:
    rows = frames()
    table = crc_table(poly, False)
    value = np.full(len(rows), start, np.uint8)
    for column in rows[:, :7].T:
        value = table[value ^ column]
    rows[:, 7] = value ^ end
    found = find_checksum(rows, 0x123, [BitField(48, 4)])
    assert found is not None and found.field == BitField(56, 8)
    assert found.algorithm.startswith(words)
    rows[700, 2] ^= 4
    assert np.flatnonzero(wrong(found, rows, None)).tolist() == [700]


def test_sums_and_xor_are_named_with_what_is_mixed_in() -> None:
    rows = frames()
    others = rows[:, :7].astype(np.int64)
    rows[:, 7] = np.bitwise_xor.reduce(others, axis=1) ^ 0x12 ^ 0x3
    assert find_checksum(rows, 0x312, []).algorithm == "XOR of the bytes, with its identifier"  # type: ignore[union-attr]
    rows[:, 7] = 255 - (others.sum(axis=1) & 255)
    assert find_checksum(rows, 0x312, []).algorithm == "inverted sum of the bytes"  # type: ignore[union-attr]
    rows[:, 7] = others.sum(axis=1) + 9 & 255
    assert find_checksum(rows, 0x312, []).algorithm == "sum of the bytes, with a constant 09"  # type: ignore[union-attr]


def test_noise_and_copies_are_no_checksums() -> None:
    rng = np.random.default_rng(3)
    rows = rng.integers(0, 256, (800, 8)).astype(np.uint8)
    assert find_checksum(rows, 1, []) is None
    copied = np.zeros((800, 4), np.uint8)
    copied[:, 0] = copied[:, 3] = rng.integers(0, 256, 800)
    assert find_checksum(copied, 1, []) is None


@given(
    length=st.integers(2, 8),
    start=st.integers(8, 47),
    first=st.integers(0, 255),
    lost=st.integers(0, 3),
    order=st.sampled_from(["little", "big"]),
)
@settings(max_examples=60, deadline=None)
def test_counters_are_found_wherever_they_lie(length: int, start: int, first: int, lost: int, order: Order) -> None:
    field = BitField(start, 1, order).longer(length - 1)
    assert field is not None
    rows = np.zeros((600, 8), np.uint8)
    kept = np.delete(np.arange(600 + lost) + first, [100 * (i + 1) for i in range(lost)])
    insert(field, rows, kept & (1 << length) - 1)
    (found,) = find_counters(rows)
    assert found.field.bits == field.bits
    assert np.count_nonzero(skips(found, rows)) == lost


def test_a_counter_that_leaves_a_number_out_is_known() -> None:
    rows = np.zeros((600, 2), np.uint8)
    rows[:, 1] = np.arange(600) % 15
    (found,) = find_counters(rows)
    assert (found.field, found.low, found.high) == (BitField(8, 4), 0, 14)
    assert found.algorithm == "+1, 0 to 14"


def test_pages_are_taken_apart() -> None:
    rows = np.zeros((900, 8), np.uint8)
    page = np.arange(900) % 3
    rows[:, 0] = page + 1
    slow = (120 + 100 * np.sin(np.arange(900) / 40)).astype(np.int64)
    for which, field in ((0, BitField(8, 8)), (1, BitField(23, 16, "big")), (2, BitField(40, 12))):
        part = rows[page == which]
        insert(field, part, slow[page == which] * (1 if field.length == 8 else 11))
        rows[page == which] = part
    found = structure_of(Column(1, np.arange(900) * 10**7, rows))
    assert found.selector is not None and found.selector.pages == (1, 2, 3)
    numbers = {p.page: p for p in found.pieces if p.kind == "value"}
    assert set(numbers) == {1, 2, 3}
    assert set(numbers[1].field.bits) <= set(range(8, 16)) and min(numbers[3].field.bits) == 40


def test_a_number_that_crosses_zero_is_signed() -> None:
    values = (60 * np.sin(np.arange(300) / 20)).astype(np.int8)
    payloads = values.view(np.uint8)[:, None]
    assert looks_signed(BitField(0, 8), payloads)
    assert not looks_signed(BitField(0, 8), np.abs(values).view(np.uint8)[:, None])


def test_text_is_told_from_numbers() -> None:
    rows = np.zeros((60, 8), np.uint8)
    for i, line in enumerate([b"PIER 4  ", b"HARBOUR ", b"NO RAMP "]):
        rows[i * 20 : i * 20 + 20] = np.frombuffer(line, np.uint8)
    (piece,) = [p for p in structure_of(Column(1, np.arange(60), rows)).pieces if p.kind != "constant"]
    assert (piece.kind, piece.field.length) == ("text", 64)


@given(st.integers(0, 40), st.integers(0, 9), st.integers(0, 2**32 - 1))
@settings(max_examples=60, deadline=None)
def test_any_payloads_are_taken_apart_without_overlap(count: int, size: int, seed: int) -> None:
    rng = np.random.default_rng(seed)
    rows = rng.integers(0, 256, (count, size)).astype(np.uint8) & rng.integers(0, 256, size).astype(np.uint8)
    found = structure_of(Column(1, np.arange(count), rows))
    for page in {p.page for p in found.pieces}:
        bits = [b for p in found.pieces if p.page in (page, None) for b in p.field.bits]
        assert len(bits) == len(set(bits)) and all(0 <= b < size * 8 for b in bits)


def test_structure_of_random_vehicles_is_found() -> None:
    score = np.zeros(7)
    for seed in (9001, 9002):
        made = vehicle(seed, seconds=60)
        score += structure_scores(made, structures_of(made.columns))
    precision, recall = score[0] / score[1], score[0] / score[2]
    assert 2 * precision * recall / (precision + recall) > 0.93
    assert score[3] / score[4] > 0.9 and score[5] / score[6] > 0.9


def test_half_bytes_are_summed_without_their_own() -> None:
    from keel.hunt.checksums import Rule

    rows = np.array([[0x12, 0x3F]], np.uint8)
    assert bare(Rule("sum", BitField(8, 4)), rows).tolist() == [(1 + 2 + 3) & 15]
    assert bare(Rule("xor", BitField(12, 4)), rows).tolist() == [1 ^ 2 ^ 15]
