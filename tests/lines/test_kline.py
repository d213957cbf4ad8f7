"""The single-wire diagnostics line read from levels, as testers and controllers written from the standard drive it.

Source: ISO 14230-2:2016, 5.2 (messages), 5.4.2 (initialisation); ISO 9141-2:1994, 6, 7.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.lines.code import Asked, Guess, How
from keel.lines.codes import guesses, is_told
from keel.lines.kline import explain, read
from keel.lines.pulses import bit_time
from keel.media.kline import ADDRESSED, INIT, PLAIN
from keel.model.faults import fault_words
from keel.model.waveform import Logic
from tests.command import keel
from tests.lines.waves import vcd
from tests.lines.wires import Level, uart, wave

RATE, MS = 10_400, 1e6


def summed(data: bytes) -> bytes:
    return data + bytes([sum(data) & 0xFF])


def message(target: int, source: int, data: bytes, own_length: bool = False) -> bytes:
    """With addresses, and the length in the format byte or in a byte of its own."""
    head = [0x80, target, source, len(data)] if own_length else [0x80 | len(data), target, source]
    return summed(bytes(head) + data)


def on_the_wire(data: bytes, before_ms: float, between_ms: float = 0.0, rate: int = RATE) -> list[Level]:
    bits = between_ms * MS * rate / 1e9
    return [(1, before_ms * MS), *uart(data, rate, rest=0.0, pauses=[0.0] + [bits] * (len(data) - 1))]


def talk(messages: Sequence[tuple[bytes, float]], rate: int = RATE) -> list[Level]:
    """Requests with 5 ms between their bytes, answers without; each with the silence before it in ms."""
    levels: list[Level] = []
    for number, (data, before) in enumerate(messages):
        levels += on_the_wire(data, before, 0.0 if number % 2 else 5.0, rate)
    return [*levels, (1, 100 * MS)]


REQUEST, ANSWER = message(0x11, 0xF1, b"\x21\x01"), message(0xF1, 0x11, b"\x61\x01\x12\x34\x56", own_length=True)
TALK = [(REQUEST, 80.0), (ANSWER, 30.0)] * 4
FAST = [(1, 400 * MS), (0, 25 * MS), (1, 25 * MS), *uart(message(0x11, 0xF1, b"\x81"), RATE, rest=0.0), (1, 40 * MS)]


def five_baud(address: int, keys: bytes = b"\x08\x08") -> list[Level]:
    """An address at five bits a second, sync and key bytes, and what answers them inverted."""
    bit = 200 * MS
    levels: list[Level] = [(1, 400 * MS), (0, bit), *((address >> k & 1, bit) for k in range(8)), (1, bit)]
    levels += on_the_wire(bytes([0x55]), 100.0) + on_the_wire(keys[:1], 10.0) + on_the_wire(keys[1:], 2.0)
    levels += on_the_wire(bytes([keys[1] ^ 0xFF]), 30.0) + on_the_wire(bytes([address ^ 0xFF]), 30.0)
    return [*levels, (1, 20 * MS)]


def lines_of(line: Logic, **settings: str) -> Guess:
    (found,) = read(line, bit_time(line), Asked(settings=settings), is_named=True)
    return found


def rows(found: Guess) -> list[tuple[int, int, bytes, list[str]]]:
    frames = found.frames
    return [
        (int(frames.form[n]), int(frames.ident[n]), frames.payload(n), fault_words(int(frames.faults[n])))
        for n in range(len(frames))
    ]


def test_headers_lengths_and_checksums_are_read() -> None:
    found = lines_of(wave(talk(TALK)))
    assert found.settings == {"header": "iso14230"} and found.rate == pytest.approx(RATE, rel=1e-3) and not found.faulty
    assert rows(found)[:2] == [
        (ADDRESSED.number, 0x11F1, b"\x21\x01", []),
        (ADDRESSED.number, 0xF111, b"\x61\x01\x12\x34\x56", []),
    ]
    assert len(found.frames) == 8


def test_a_header_without_addresses_is_its_format_byte() -> None:
    said = [(summed(bytes([len(data)]) + data), 80.0) for data in (b"\x3e", b"\x7e", b"\x21\x05", b"\x61\x05\x09")]
    found = lines_of(wave(talk(said)))
    assert rows(found)[2] == (PLAIN.number, 0x02, b"\x21\x05", [])


def test_the_older_standard_has_three_bytes_of_header() -> None:
    said = [(summed(b"\x68\x6a\xf1\x01\x00"), 80.0), (summed(b"\x48\x6b\x10\x41\x00\x01\x02\x03\x04"), 30.0)] * 3
    found = lines_of(wave(talk(said)))
    assert found.settings == {"header": "iso9141"}
    assert rows(found)[:2] == [
        (ADDRESSED.number, 0x6AF1, b"\x01\x00", []),
        (ADDRESSED.number, 0x6B10, b"\x41\x00\x01\x02\x03\x04", []),
    ]


def test_wrong_checksums_and_times_are_told() -> None:
    bad = ANSWER[:-1] + bytes([ANSWER[-1] ^ 1])
    said = [
        *TALK,
        (REQUEST, 80.0),
        (bad, 30.0),
        (REQUEST, 80.0),
        (ANSWER, 60.0),
        (REQUEST, 40.0),
        (ANSWER, 30.0),
        *TALK,
    ]
    faults = [row[3] for row in rows(lines_of(wave(talk(said))))]
    assert faults == [[]] * 8 + [[], ["checksum"], [], ["timing"], ["timing"], []] + [[]] * 8


def test_both_ways_to_wake_it_up_are_read() -> None:
    fast = lines_of(wave([*FAST, *talk(TALK)]))
    assert rows(fast)[0] == (INIT.number, 0, b"", []) and rows(fast)[1] == (ADDRESSED.number, 0x11F1, b"\x81", [])
    assert fast.frames.duration is not None and abs(int(fast.frames.duration[0]) - 50 * MS) < 10
    slow = lines_of(wave([*five_baud(0x33), *talk(TALK)]))
    assert rows(slow)[0] == (INIT.number, 0x33, b"\x08\x08", []) and len(slow.frames) == 9
    line = wave([*five_baud(0x33), *talk(TALK)])
    begin = int(slow.frames.time[0])
    assert slow.frames.duration is not None
    fields = explain(line, How(slow.how, slow.settings), begin, begin + int(slow.frames.duration[0]))
    assert [field.name for field in fields] == [
        "wake_up",
        "sync",
        "key_1",
        "key_2",
        "key_2_inverted",
        "address_inverted",
    ]
    assert b"".join(field.raw for field in fields).hex() == "550808f7cc"


def test_a_message_is_taken_apart() -> None:
    line = wave(talk(TALK))
    found = lines_of(line)
    assert found.frames.duration is not None
    time = int(found.frames.time[1])
    fields = explain(line, How(found.how, found.settings), time, time + int(found.frames.duration[1]))
    assert [field.name for field in fields] == ["format", "target", "source", "length", "data", "checksum"]
    assert b"".join(field.raw for field in fields) == ANSWER and fields[4].text == "6101123456"


def test_an_unknown_line_is_cut_by_silence_with_its_first_byte_as_identifier() -> None:
    rate = 7_813
    said = [(bytes([0x21, n & 3, 0x40 + n]), 60.0) if n % 2 else (bytes([0x05, n]), 60.0) for n in range(20)]
    levels: list[Level] = []
    for data, before in said:
        levels += on_the_wire(data, before, 0.0, rate)
    line = wave([*levels, (1, 60 * MS)])
    found = lines_of(line)
    assert found.settings == {"header": "unknown"} and not found.check and found.rate == pytest.approx(rate, rel=1e-3)
    assert [(row[1], row[2]) for row in rows(found)] == [(data[0], data[1:]) for data, _ in said]
    assert not read(line, bit_time(line), Asked()), "by itself it is a serial line"


def test_it_is_found_by_itself() -> None:
    line = wave([*FAST, *talk(TALK)])
    for one, inverted in ((line, False), (line.inverted, True)):
        found = guesses(one, Asked())
        assert is_told(found) and (found[0].code, found[0].inverted) == ("kline", inverted)
        assert found[0].rate == pytest.approx(RATE, rel=1e-3)


def test_commands_give_identifiers_kinds_and_all_bytes(tmp_path: Path) -> None:
    (tmp_path / "x.vcd").write_bytes(vcd(K=wave([*FAST, *talk(TALK)])))
    done = keel("decode", tmp_path / "x.vcd", "-o", tmp_path / "x.keel", "--as", "kline", "--json")
    assert json.loads(done.stdout)["lines"][0]["rate"] == pytest.approx(RATE, rel=1e-3)
    said = [json.loads(row) for row in keel("frames", tmp_path / "x.keel", "--json", "--fields").stdout.splitlines()]
    assert [(row["kind"], row["id"], row["medium"]) for row in said[:3]] == [
        ("init", "00", "kline"), ("data", "11F1", "kline"), ("data", "11F1", "kline"),
    ]  # fmt: skip
    assert said[0]["raw"] == "" and said[2]["raw"] == REQUEST.hex().upper()


@given(st.lists(st.tuples(st.booleans(), st.integers(1, 400)), max_size=60))
def test_any_levels_are_read_without_crash(said: list[tuple[bool, int]]) -> None:
    line = wave([(1, 1e6), *((int(level), 96_154.0 * length) for level, length in said), (1, 5e7)])
    for found in read(line, bit_time(line), Asked(10_400.0), is_named=True):
        frames = found.frames
        assert frames.duration is not None
        for time, took in zip(frames.time.tolist(), frames.duration.tolist(), strict=True):
            assert explain(line, How(found.how, found.settings), time, time + took) is not None


def test_noise_has_no_header() -> None:
    edges = np.cumsum(np.random.default_rng(1).exponential(200_000, 20_000).astype(np.int64) + 1)
    noise = Logic(0, int(edges[-1]) + 1, 1, edges)
    assert not read(noise, bit_time(noise), Asked())


@pytest.mark.parametrize("gap", ["5ms", "40ms"])
def test_a_gap_is_said_by_hand(gap: str) -> None:
    said = [(b"\x01\x02", 20.0), (b"\x03\x04", 20.0), (b"\x05", 60.0)]
    levels = [level for data, before in said for level in on_the_wire(data, before)]
    found = lines_of(wave([*levels, (1, 60 * MS)]), gap=gap)
    assert len(found.frames) == (3 if gap == "5ms" else 2)
