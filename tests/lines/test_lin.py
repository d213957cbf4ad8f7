"""LIN read from levels, as a commander and its responders written from the standard drive them.

Source: LIN specification package 2.2A, 2.3.1 (frame slots), 2.8.3 (an example of a checksum).
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.errors import InputError
from keel.lines.code import Asked, Guess, How
from keel.lines.codes import guesses, is_told
from keel.lines.lin import checksum, explain, protected, read
from keel.lines.pulses import bit_time
from keel.model.faults import fault_words
from keel.model.waveform import Logic
from tests.command import keel
from tests.lines.waves import vcd
from tests.lines.wires import Level, shaken, uart, wave


@dataclass(frozen=True)
class Said:
    """A header and what answers it: identifier, data (None: nobody answers), the model of its checksum."""

    ident: int
    data: bytes | None
    model: str = "enhanced"
    wrong: str = ""


def pid_of(ident: int) -> int:
    """P0 is the sum of ID0, ID1, ID2, ID4; P1 the inverted one of ID1, ID3, ID4, ID5; both modulo 2."""
    bit = [ident >> k & 1 for k in range(6)]
    return ident | (bit[0] ^ bit[1] ^ bit[2] ^ bit[4]) << 6 | (1 ^ bit[1] ^ bit[3] ^ bit[4] ^ bit[5]) << 7


def sum_of(data: bytes) -> int:
    """The inverted sum, carries added in each time."""
    total = 0
    for byte in data:
        total += byte
        total = (total & 0xFF) + (total >> 8)
    return total ^ 0xFF


def lin(said: list[Said], rate: float, break_bits: float = 13.0, gap_bits: float = 20.0) -> list[Level]:
    bit = 1e9 / rate
    levels: list[Level] = [(1, 40 * bit)]
    for one in said:
        pid = pid_of(one.ident) ^ (0x40 if one.wrong == "parity" else 0)
        levels += [(0, break_bits * bit), (1, 1.5 * bit)]
        sent = bytes([0x54 if one.wrong == "sync" else 0x55, pid])
        if one.data is not None:
            mine = sum_of((bytes([pid]) if one.model == "enhanced" else b"") + one.data)
            sent += one.data + bytes([mine ^ (0x11 if one.wrong == "checksum" else 0)])
        levels += uart(sent, rate, rest=0.0, pauses=[0.0, 0.5, 2.0])
        levels.append((1, gap_bits * bit))
    return levels


SCHEDULE = [
    Said(0x10, b"\x01\x02"), Said(0x21, bytes(range(8))), Said(0x2A, b"\x80"), Said(0x33, None),
    Said(0x3C, b"\x7f\x06\xb2\x00\xff\xff\x05\x01", "classic"), Said(0x00, b"\xff\xff\xff\xff"),
]  # fmt: skip


def lines_of(line: Logic, **settings: str) -> Guess:
    (found,) = read(line, bit_time(line), Asked(settings=settings))
    return found


def test_checksums_and_parities_are_those_of_the_standard() -> None:
    assert int(checksum(np.array(0x4A + 0x55 + 0x93 + 0xE5))) == 0xE6 == sum_of(bytes([0x4A, 0x55, 0x93, 0xE5]))
    # Of the commander's request and the responder's response.
    assert int(protected(np.int64(0x3C))) == 0x3C and int(protected(np.int64(0x3D))) == 0x7D
    assert [int(protected(np.int64(n))) for n in range(64)] == [pid_of(n) for n in range(64)]


@pytest.mark.parametrize("rate", [2_400, 9_600, 19_200, 20_000])
def test_frames_are_read_with_when_they_began_and_ended(rate: int) -> None:
    line = shaken(wave(lin(SCHEDULE * 3, rate)), 0.01e9 / rate)
    found = lines_of(line)
    frames = found.frames
    assert (
        found.rate == pytest.approx(rate, rel=1e-3)
        and not found.inverted
        and found.settings == {"checksum": "enhanced"}
    )
    assert [(int(frames.ident[n]), frames.payload(n)) for n in range(6)] == [(s.ident, s.data or b"") for s in SCHEDULE]
    assert [fault_words(int(fault)) for fault in frames.faults[:6]] == [[], [], [], ["no-response"], [], []]
    bit = 1e9 / rate
    assert frames.duration is not None
    # Break, delimiter, four bytes and their pauses, of the first frame.
    assert int(frames.duration[0]) == pytest.approx((13 + 1.5 + 50 + 2.5) * bit, rel=0.01)
    # Headers that nobody answered are no good frames.
    assert found.explained > 0.75 and found.faulty == 3


@pytest.mark.parametrize("wrong", ["checksum", "parity", "sync"])
def test_what_is_wrong_is_told(wrong: str) -> None:
    said = [Said(0x10, b"\x01\x02"), Said(0x21, b"abc", wrong=wrong), Said(0x12, b"xyz")]
    found = lines_of(wave(lin(said, 19_200)))
    assert [fault_words(int(fault)) for fault in found.frames.faults] == [[], [wrong], []]


def test_both_models_of_checksums_are_told_apart_and_said_by_hand() -> None:
    said = [Said(n, bytes([n, 3 * n]), "classic") for n in range(1, 9)]
    line = wave(lin(said, 9_600))
    assert lines_of(line).settings == {"checksum": "classic"} and lines_of(line).faulty == 0
    by_hand = lines_of(line, checksum="enhanced")
    assert by_hand.faulty == len(said)
    with pytest.raises(InputError, match="classic or enhanced"):
        lines_of(line, checksum="odd")


def test_a_frame_is_taken_apart_over_its_waveform() -> None:
    line = wave(lin(SCHEDULE, 19_200))
    found = lines_of(line)
    frames = found.frames
    assert frames.duration is not None
    how = How(found.how, found.settings)
    spans = [(int(t), int(t + d)) for t, d in zip(frames.time, frames.duration, strict=True)]
    fields = explain(line, how, *spans[1])
    assert [field.name for field in fields] == ["break", "sync", "id", "data", "checksum", "checksum_model"]
    assert fields[2].text == "21" and fields[3].text == "0001020304050607" and fields[5].text == "enhanced"
    bytes_sent = bytes([pid_of(0x21), *range(8)])
    assert b"".join(field.raw for field in fields) == b"\x55" + bytes_sent + bytes([sum_of(bytes_sent)])
    assert fields[0].start == spans[1][0] and abs(fields[-1].end - spans[1][1]) < 2
    assert all(a.end <= b.start for a, b in zip(fields[:-2], fields[1:-1], strict=True))
    assert [field.name for field in explain(line, how, *spans[3])] == ["break", "sync", "id"]
    assert explain(line, how, *spans[4])[-1].text == "classic"


def test_lin_is_found_by_itself_also_upside_down() -> None:
    line = wave(lin(SCHEDULE * 4, 19_200))
    for one, inverted in ((line, False), (line.inverted, True)):
        found = guesses(one, Asked())
        assert is_told(found) and (found[0].code, found[0].inverted) == ("lin", inverted)
        assert found[0].rate == pytest.approx(19_200, rel=1e-3)


def test_commands_give_identifiers_and_the_model_of_checksums(tmp_path: Path) -> None:
    import json

    (tmp_path / "x.vcd").write_bytes(vcd(wire=wave(lin(SCHEDULE * 2, 19_200))))
    done = keel("decode", tmp_path / "x.vcd", "-o", tmp_path / "x.keel", "--as", "lin", "--json")
    assert json.loads(done.stdout)["lines"][0]["settings"] == {"checksum": "enhanced"}
    rows = [json.loads(line) for line in keel("frames", tmp_path / "x.keel", "--json", "--fields").stdout.splitlines()]
    assert [row["id"] for row in rows[:6]] == ["10", "21", "2A", "33", "3C", "00"] and rows[0]["medium"] == "lin"
    assert rows[0]["raw"] == f"55{pid_of(0x10):02X}0102{sum_of(bytes([pid_of(0x10), 1, 2])):02X}"
    assert rows[4]["fields"][-1]["name"] == "checksum_model" and rows[4]["fields"][-1]["text"] == "classic"


@given(st.lists(st.integers(1, 40), max_size=80), st.booleans())
def test_any_levels_are_read_without_crash(lengths: list[int], high: bool) -> None:
    edges = np.cumsum(np.array([0, *lengths], np.int64) * 52_083)
    line = Logic(0, int(edges[-1]) + 10**6, int(high), edges[1:])
    for found in read(line, bit_time(line), Asked(19_200.0)):
        frames = found.frames
        assert frames.duration is not None and (frames.duration > 0).all()
        for time, took in zip(frames.time.tolist(), frames.duration.tolist(), strict=True):
            assert explain(line, How(found.how, found.settings), time, time + took) is not None
