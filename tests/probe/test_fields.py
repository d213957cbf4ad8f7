"""The fields of a frame lie over the bits that carry them."""

from __future__ import annotations

import numpy as np
import pytest

from keel.lines.can_fields import fields_of
from keel.lines.can_wave import CanRates, decode, turn_of
from keel.lines.code import Field, How
from keel.lines.code_uart import explain
from keel.model.waveform import Logic
from tests.lines.test_can_wave import FLEXIBLE, FRAMES
from tests.lines.wires import CanFrame, can, can_bits, uart, wave

BASE = ["sof", "id", "rtr", "ide", "r0", "dlc", "data", "crc", "crc_delimiter", "ack", "ack_delimiter", "eof"]
EXTENDED = ["sof", "id", "srr", "ide", "id", "rtr", "r1", "r0", *BASE[5:]]
FD = [
    "sof", "id", "rtr", "ide", "fdf", "res", "brs", "esi", "dlc", "data", "stuff_count", "crc", "crc_delimiter",
    "ack", "ack_delimiter", "eof",
]  # fmt: skip


def fields(frames: list[CanFrame], fast: float = 0.0) -> list[list[Field]]:
    line = wave(can(frames, 500_000, fast)[0])
    rates = CanRates(500_000, fast, turn_of(line, CanRates(500_000, fast)))
    sent = decode(line, rates)
    assert len(sent) == len(frames)
    return [fields_of(line, a, b, rates) for a, b in zip(sent.starts.tolist(), sent.ends.tolist(), strict=True)]


def test_can_has_the_fields_of_its_format() -> None:
    found = fields(FRAMES)
    assert [f.name for f in found[0]] == BASE and [f.name for f in found[3]] == EXTENDED
    assert [f.name for f in found[6]] == [name for name in BASE if name != "data"]
    by_name = {f.name: f for f in found[0]}
    assert (by_name["id"].value, by_name["id"].text, by_name["dlc"].value) == (0x1A0, "1A0", 4)
    assert (by_name["data"].value, by_name["data"].text, by_name["eof"].value) == (None, "8001A4FF", 127)
    high, low = (f.value for f in found[3] if f.name == "id")
    assert high is not None and low is not None and int(high) << 18 | int(low) == 0x18FEF117
    assert [f.fault for f in found[5] if f.name == "ack"] == ["ack"]
    # One after another, stuffed bits between them at most.
    for fields_of_frame in found:
        gaps = [b.start - a.end for a, b in zip(fields_of_frame, fields_of_frame[1:], strict=False)]
        assert set(gaps) <= {0, 2000}


def test_a_field_begins_where_its_first_bit_does() -> None:
    frame = CanFrame(0x155, b"\x55\x55")
    bits, stuffed = can_bits(frame)
    assert stuffed == 1
    (found,) = fields([frame])
    ends = {f.name: (f.start - found[0].start, f.end - found[0].start) for f in found}
    assert (ends["sof"], ends["id"], ends["rtr"], ends["dlc"]) == (
        (0, 2000),
        (2000, 24_000),
        (24_000, 26_000),
        # Five zeros from RTR on: a stuffed bit lies in the DLC.
        (30_000, 40_000),
    )
    assert ends["eof"][1] == len(bits) * 2000


def test_flexible_frames_have_stuff_counts_and_fields_at_both_rates() -> None:
    found = fields(FLEXIBLE, 2_000_000)
    assert [f.name for f in found[0]] == FD
    by_name = {f.name: f for f in found[0]}
    assert by_name["data"].text == bytes(range(64)).hex().upper()
    assert (by_name["brs"].value, by_name["esi"].value, by_name["dlc"].value) == (1, 0, 15)
    assert by_name["dlc"].end - by_name["dlc"].start == pytest.approx(2000, abs=510)
    assert by_name["ack"].end - by_name["ack"].start == pytest.approx(2000, abs=10)
    assert [f.name for f in found[3]][:9] == ["sof", "id", "srr", "ide", "id", "rtr", "fdf", "res", "brs"]


def test_what_is_wrong_is_said_on_its_field() -> None:
    (spoiled,) = fields([CanFrame(0x1A0, b"abc", spoil_crc=4)])
    assert [f.name for f in spoiled if f.fault == "crc"] == ["crc"]
    bits, _ = can_bits(CanFrame(0x1A0, bytes(range(8))))
    levels = [(1, 40_000.0), *((level, 2000.0) for level, _ in bits[:40]), (0, 12_000.0), (1, 60_000.0)]
    line = wave(levels)
    sent = decode(line, CanRates(500_000))
    cut = fields_of(line, int(sent.starts[0]), int(sent.ends[0]), CanRates(500_000))
    assert [f.fault for f in cut][-1] == "stuff" and cut[-1].end == int(sent.ends[0])


def test_serial_messages_have_a_field_for_each_byte_with_its_fault() -> None:
    line = wave(uart(b"\x41\x00\xff", 9600, 8, "even"))
    how = How({"rate": 9600.0}, {"bits": 8, "parity": "even", "stop": 1.0, "order": "lsb"})
    start = int(line.edges[0])
    bit = 1e9 / 9600
    found = explain(line, how, start, start + round(33 * bit))
    assert [(f.name, f.value, f.text, f.fault) for f in found] == [
        ("byte", 0x41, "41", None), ("byte", 0, "00", None), ("byte", 0xFF, "FF", None),
    ]  # fmt: skip
    assert found[1].start == pytest.approx(start + 11 * bit, abs=2) and found[0].end - found[0].start == round(11 * bit)
    odd = How(how.numbers, {**how.settings, "parity": "odd"})
    assert [f.fault for f in explain(line, odd, start, start + round(33 * bit))] == ["parity"] * 3
    # The first byte of two only.
    assert len(explain(line, how, start, start + round(11 * bit))) == 1


def test_a_frame_that_is_not_there_has_no_fields() -> None:
    line = Logic(0, 100_000, 1, np.array([50_000, 60_000]))
    assert fields_of(line, 20_000, 40_000, CanRates(500_000)) == []
