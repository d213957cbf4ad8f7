"""The command line of memory cards, as host and card written from the specification drive it."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from keel.lines.card import crc7, explain, read
from keel.lines.clocked import Wire
from keel.lines.code import Asked, Guess, How
from keel.media.card import RESPONSE
from keel.model.faults import fault_words
from keel.model.frames import Flag
from keel.model.waveform import Logic
from tests.command import keel
from tests.lines.chips import bits_of, card, command, conditions, register, response
from tests.lines.chips import crc7 as standard_crc7
from tests.lines.waves import vcd

CID = 0x035344534330384780_12345678_0145
SLOW, FAST = 400e3, 50e6
TALK = [
    (command(0, 0), SLOW), (command(8, 0x1AA), SLOW), (response(8, 0x1AA), SLOW),
    (command(55, 0), SLOW), (response(55, 0x120), SLOW),
    (command(41, 0x40FF8000), SLOW), (conditions(0xC0FF8000), SLOW),
    (command(2, 0), SLOW), (register(CID), SLOW), (command(3, 0), SLOW), (response(3, 0x12340520), SLOW),
    (command(17, 0x1000), FAST), (response(17, 0x900), FAST),
    (command(17, 0x1200), FAST), (response(17, 0x900), FAST),
]  # fmt: skip


def wires(lines: dict[str, Logic]) -> list[Wire]:
    return [Wire("clk", "clock", lines["clk"]), Wire("cmd", "command", lines["cmd"])]


def said(lines: dict[str, Logic]) -> Guess:
    (found,) = read(wires(lines), Asked())
    return found


def test_the_checksum_is_that_of_the_standard() -> None:
    # Physical Layer Specification, 4.5: CMD0, CMD17 with argument 0, and its response.
    for body, check in ((0x4000000000, 0b1001010), (0x5100000000, 0b0101010), (0x1100000900, 0b0110011)):
        bits = bits_of(body, 40)
        assert crc7(np.array(bits, np.uint8), 0, 40) == check == standard_crc7(bits)


@pytest.mark.parametrize("launched_rising", [False, True])
def test_commands_responses_and_registers_are_read_from_400_khz_to_50_mhz(launched_rising: bool) -> None:
    found = said(card(TALK, launched_rising))
    frames = found.frames
    rows = [
        (int(frames.ident[k]), frames.payload(k).hex(), bool(frames.flags[k] & Flag.TX)) for k in range(len(frames))
    ]
    assert rows[:3] == [(0, "00000000", True), (8, "000001aa", True), (8, "000001aa", False)]
    assert rows[6] == (0x3F, "c0ff8000", False)
    assert rows[8] == (0x3F, CID.to_bytes(15, "big").hex(), False)
    assert len(rows) == 15 and found.faulty == 0 and found.explained > 0.999
    assert frames.header is not None
    clocks = frames.header.view("<u4").ravel().tolist()
    assert clocks[0] == 400_000 and clocks[-1] == 50_000_000
    assert found.said == ("the clock changes: from 400 kHz to 50 MHz",)
    assert frames.duration is not None and frames.duration[0] == 48 * 2_500


def test_wrong_checksums_and_missing_end_bits_are_faults() -> None:
    spoilt, open_ended = command(13, 7), command(7, 1)
    spoilt[20] ^= 1
    open_ended[-1] = 0
    found = said(card([(command(0, 0), SLOW), (spoilt, SLOW), (command(1, 2), SLOW), (open_ended, SLOW)]))
    faults = [fault_words(int(one)) for one in found.frames.faults]
    assert faults == [[], ["crc"], [], ["end-bit"]]


def test_fields_lie_over_their_bits() -> None:
    lines = card(TALK)
    found = said(lines)
    frames = found.frames
    assert frames.duration is not None
    for row, last in ((1, "argument"), (2, "status"), (8, "register")):
        start, end = int(frames.time[row]), int(frames.time[row] + frames.duration[row])
        fields = explain(wires(lines), How(found.how, {}), start, end, int(frames.form[row]))
        assert [one.name for one in fields] == ["start", "transmission", "index", last, "crc", "end"]
        assert fields[0].start == start and abs(fields[-1].end - end) <= 1
        raw = b"".join(one.raw for one in fields)
        bits = TALK[row][0]
        assert raw == int("".join(map(str, bits)), 2).to_bytes(len(bits) // 8, "big")
        assert all(one.fault is None for one in fields)
    start = int(frames.time[6])
    plain = explain(wires(lines), How(found.how, {}), start, start + int(frames.duration[6]), RESPONSE.number)
    assert all(one.fault is None for one in plain)


@given(
    st.lists(st.tuples(st.integers(0, 0x3E), st.integers(0, 2**32 - 1)), min_size=2, max_size=6),
    st.sampled_from([400e3, 25e6]),
)  # fmt: skip
@settings(max_examples=25)
def test_what_is_sent_is_read(sent: list[tuple[int, int]], rate: float) -> None:
    tokens = [(make(index, value), rate) for index, value in sent for make in (command, response)]
    frames = said(card(tokens)).frames
    rows = [(int(frames.ident[k]), int.from_bytes(frames.payload(k), "big")) for k in range(0, len(frames), 2)]
    assert rows == sent


@given(st.lists(st.integers(0, 1), min_size=0, max_size=400))
@settings(max_examples=30)
def test_any_bits_are_read_to_their_end(bits: list[int]) -> None:
    lines = card([(bits, 1e6)])
    found = read(wires(lines), Asked())
    assert all(len(one.frames) <= len(bits) // 48 + 1 for one in found)


def test_it_is_found_among_wires_of_any_names(tmp_path: Path) -> None:
    lines = card(TALK * 3)
    file, folder = tmp_path / "p.vcd", tmp_path / "r.keel"
    file.write_bytes(vcd(one=lines["cmd"], two=lines["clk"]))
    done = json.loads(keel("decode", file, "-o", folder, "--json").stdout)
    (line,) = done["lines"]
    assert (line["code"], line["frames"], line["faulty"]) == ("card", 45, 0)
    rows = [json.loads(row) for row in keel("frames", folder, "--json", "--fields").stdout.splitlines()]
    assert (rows[8]["id"], rows[8]["kind"], rows[8]["dir"], rows[8]["len"]) == ("63", "response", "rx", 15)
    assert rows[0]["header"] == {"clock": 400_000} and rows[0]["raw"] == "400000000095"
    found = keel("frames", folder, "--ask", "clock>1000000", "--json").stdout.splitlines()
    assert len(found) == 12
