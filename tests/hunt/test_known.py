"""A value that a person knows is found however it is sent, and taken for what was typed."""

from __future__ import annotations

import struct

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.hunt.columns import Column
from keel.hunt.encodings import ENCODINGS, Typed, typed
from keel.hunt.exact import Known, find_exact
from keel.hunt.traffic import Traffic

START = 1_750_000_000 * 10**9
COUNT = 600


def traffic(payload: bytes = b"") -> Traffic:
    """Eight identifiers that go their own ways; the first says a payload besides, in every frame."""
    rng = np.random.default_rng(5)
    columns = {}
    for key in range(0x200, 0x208):
        said = np.zeros((COUNT, 8 + 4 * (len(payload) > 6)), np.uint8)
        said[:, 0] = np.cumsum(rng.integers(-1, 2, COUNT)) & 63
        said[:, 1] = np.cumsum(rng.integers(-2, 3, COUNT)) & 127
        if key == 0x200 and payload:
            said[:, 2 : 2 + len(payload)] = np.frombuffer(payload, np.uint8)
        columns[key] = Column(key, START + np.arange(COUNT) * 100_000_000 + key, said)
    return Traffic.of(columns)


def paged() -> Traffic:
    """The same, and a message of three pages; on page 1 a number of two bytes that moves slowly."""
    rows = np.zeros((COUNT, 8), np.uint8)
    rows[:, 0] = np.arange(COUNT) % 3
    number = np.rint(4889 + 200 * np.sin(np.arange(COUNT) / 30)).astype(np.int64)
    for page, values in ((0, np.arange(COUNT) // 9 & 127), (1, number & 255), (2, np.arange(COUNT) // 5 & 255)):
        rows[rows[:, 0] == page, 3] = values[rows[:, 0] == page]
    rows[rows[:, 0] == 1, 4] = number[rows[:, 0] == 1] >> 8
    columns = dict(traffic().columns)
    columns[0x300] = Column(0x300, START + np.arange(COUNT) * 100_000_000, rows)
    return Traffic.of(columns)


def test_a_constant_of_32_bits_is_found_though_it_never_moves() -> None:
    found = find_exact(traffic(struct.pack("<I", 305_419_896)), Known("305419896"))
    best = found.candidates[0]
    assert found.verdict == "found" and (best.key, best.field.start, best.field.length) == (0x200, 16, 32)
    assert "always" in best.why and (best.scale, best.offset) == (1.0, 0.0)


@pytest.mark.parametrize(
    ("typed_as", "payload", "scale"),
    [
        ("88.9", struct.pack(">H", 8891), 0.01),
        ("4711.25", struct.pack("<f", 4711.25), 1.0),
        ("4711.25", struct.pack(">d", 4711.25), 1.0),
        ("90210", bytes.fromhex("090210"), None),
        ("-1234.5", struct.pack(">h", -12345), 0.1),
    ],
)
def test_the_usual_codings_are_found_in_both_orders(typed_as: str, payload: bytes, scale: float | None) -> None:
    found = find_exact(traffic(payload), Known(typed_as))
    mine = [c for c in found.candidates if c.key == 0x200 and c.field.start in (16, 23) and c.scale == scale]
    assert found.verdict != "nothing" and mine and mine[0].field.length == 8 * len(payload)
    assert mine[0].field.signed == typed_as.startswith("-")
    assert f"typed {typed_as}, taken as" in found.notes[0]


def test_a_value_on_one_page_of_several_is_found_there() -> None:
    whole = paged()
    rows = whole.columns[0x300].payloads
    said = int(rows[262, 3]) | int(rows[262, 4]) << 8
    found = find_exact(whole, Known(f"{said / 10:.1f}", int(whole.columns[0x300].times[262])))
    mine = [c for c in found.candidates[:3] if (c.key, c.page, c.scale) == (0x300, 1, 0.1)]
    assert found.verdict != "nothing" and mine


def test_half_a_step_of_what_was_typed_is_said_in_words() -> None:
    number = typed("88.9")
    assert number is not None and number.words == "typed 88.9, taken as 88.85 to 88.95"
    whole = typed("12")
    assert whole is not None and (whole.low, whole.high) == (11.5, 12.5)
    assert typed("12,5") == Typed("12,5", 12.5, 1) and typed("PIER 7") is None and typed("nan") is None
    assert typed("1e400") is None and typed("9" * 40) is None


def test_a_number_of_one_digit_is_not_called_found() -> None:
    found = find_exact(traffic(b"\x07"), Known("7"))
    assert found.verdict != "found" and "more digits" in found.reason


def test_what_is_not_sent_is_not_found() -> None:
    found = find_exact(traffic(), Known("73219.25", START + 30 * 10**9))
    assert found.verdict != "found" and found.reason
    assert find_exact(traffic(), Known("ANCHOR")).candidates == ()
    text = find_exact(traffic(b"PIER7"), Known("PIER7"))
    assert text.verdict == "found" and text.candidates[0].field.start == 16


@given(st.integers(-(10**7), 10**7), st.sampled_from([e for e in ENCODINGS if e.decimals is None]))
def test_the_bounds_of_a_raw_value_hold_it(raw: int, encoding: object) -> None:
    scale, offset = encoding.scale, encoding.offset  # type: ignore[attr-defined]
    value = raw * scale + offset
    low, high = encoding.raw(value - scale / 4, value + scale / 4)  # type: ignore[attr-defined]
    assert low <= raw <= high and high - low <= 1


def test_packed_decimal_says_digits() -> None:
    packed = [e for e in ENCODINGS if e.decimals is not None]
    assert packed[0].raw(41.5, 42.4) == (0x42, 0x42) and packed[1].raw(88.85, 88.95)[0] == 0x889
    assert packed[0].raw(-3, -2) == (1, 0)


def test_decoys_have_as_many_decimals_and_are_others() -> None:
    number = Typed("88.9", 88.9, 1)
    others = number.others(40)
    assert len(others) == 40 and all(abs(o.value - 88.9) > 0.1 and o.decimals == 1 for o in others)
