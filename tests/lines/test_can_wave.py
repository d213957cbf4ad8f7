"""CAN and CAN FD read from levels, as a sender written from the standard drives them."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.lines.can_bit_reader import FIELDS
from keel.lines.can_fields import fields_of
from keel.lines.can_reader import ACK, CRC, OVERLOAD, STUFF
from keel.lines.can_wave import CanRates, CanSent, bits_of, decode, turn_of
from keel.lines.code import Asked, Guess
from keel.lines.codes import guesses
from keel.model.faults import fault_words
from keel.model.frames import Flag
from keel.model.identity import Form
from keel.model.waveform import Logic
from tests.lines.wires import DLC, CanFrame, can, can_bits, crc, shaken, skewed, wave

CHECKED = [int(bit) for byte in b"123456789" for bit in f"{byte:08b}"]


def test_the_senders_checksums_are_the_published_ones() -> None:
    """CRC-15/CAN, CRC-17/CAN-FD and CRC-21/CAN-FD of the nine digits."""
    assert crc(CHECKED, 15, 0x4599, 0) == 0x059E
    assert crc(CHECKED, 17, 0x1685B, 0) == 0x04F03
    assert crc(CHECKED, 21, 0x102899, 0) == 0x0ED841


def said(sent: CanSent) -> list[tuple[int, bytes]]:
    return [(int(sent.ident[i]), sent.data[sent.offsets[i] : sent.offsets[i + 1]].tobytes()) for i in range(len(sent))]


BIT = 2_000
FRAMES = [
    CanFrame(0x1A0, bytes([0x80, 0x01, 0xA4, 0xFF])),
    CanFrame(0x000, bytes(8)),
    CanFrame(0x7FF, b"\xff" * 8),
    CanFrame(0x18FEF117, bytes(range(8)), extended=True),
    CanFrame(0x123, remote=True, dlc=4),
    CanFrame(0x555, b"\xaa\x55" * 4, acknowledged=False),
    CanFrame(0x001),
]
FLEXIBLE = [
    CanFrame(0x220, bytes(range(64)), fd=True, brs=True),
    CanFrame(0x221, bytes(12), fd=True, brs=True),
    CanFrame(0x222, b"\xff" * 16, fd=True, brs=True),
    CanFrame(0x18FF1234, b"\x5a" * 20, extended=True, fd=True, brs=True),
    CanFrame(0x223, b"x", fd=True, brs=False),
    CanFrame(0x224, b"", fd=True, brs=True),
    CanFrame(0x225, b"\x11" * 32, fd=True, brs=True, esi=True),
]


def test_frames_of_all_kinds_are_read_with_when_they_began_and_ended() -> None:
    levels, spans = can(FRAMES, 500_000)
    sent = decode(wave(levels), CanRates(500_000))
    assert said(sent) == [(f.ident, f.data) for f in FRAMES]
    assert list(zip(sent.starts.tolist(), sent.ends.tolist(), strict=True)) == spans
    assert sent.faults.tolist() == [0, 0, 0, 0, 0, ACK, 0] and sent.good.all()
    assert [int(f) for f in sent.form] == [Form.EXTENDED if f.extended else Form.BASE for f in FRAMES]
    assert bool(sent.flags[4] & Flag.REMOTE) and int(sent.dlc[4]) == 4


@pytest.mark.parametrize("iso", [True, False])
@pytest.mark.parametrize("fast", [2_000_000, 5_000_000])
@pytest.mark.parametrize("switch", [0.7, 0.8])
def test_flexible_frames_are_read_iso_and_not(iso: bool, fast: int, switch: float) -> None:
    frames = [CanFrame(**{**f.__dict__, "iso": iso}) for f in FLEXIBLE]
    levels, spans = can(frames, 500_000, fast, switch=switch)
    line = wave(levels)
    turn = turn_of(line, CanRates(500_000, fast))
    assert turn == pytest.approx(switch * 2000 + (1 - switch) * 1e9 / fast, abs=2)
    sent = decode(line, CanRates(500_000, fast, turn))
    assert said(sent) == [(f.ident, f.data) for f in frames]
    assert not sent.faults.any() and set(sent.iso.tolist()) == {int(iso)}
    assert [bool(f & Flag.BRS) for f in sent.flags.tolist()] == [f.brs for f in frames]
    assert [bool(f & Flag.ESI) for f in sent.flags.tolist()] == [f.esi for f in frames]
    assert np.abs(sent.ends - [end for _, end in spans]).max() < 500


def test_frames_follow_at_once_after_the_intermission() -> None:
    levels, _ = can(FRAMES * 3, 250_000, gap_bits=3)
    assert len(decode(wave(levels), CanRates(250_000))) == len(FRAMES) * 3


@pytest.mark.parametrize("off", [-0.02, 0.02])
@pytest.mark.parametrize("jitter", [0.0, 0.02])
@pytest.mark.parametrize("late", [0.0, 0.2])
def test_a_clock_that_is_off_jitter_and_slow_edges_do_no_harm(off: float, jitter: float, late: float) -> None:
    levels, _ = can(FRAMES * 10 + FLEXIBLE * 5, 500_000 * (1 + off), 2_000_000 * (1 + off))
    wire = skewed(shaken(wave(levels), jitter * 500), int(late * 500))
    sent = decode(wire, CanRates(500_000, 2_000_000))
    assert len(sent) == len(FRAMES) * 10 + len(FLEXIBLE) * 5 and sent.good.all()


def test_a_wrong_checksum_is_a_fault_and_the_next_frame_is_read() -> None:
    for frame in (CanFrame(0x1A0, b"abc", spoil_crc=4), CanFrame(0x1A0, b"abc", fd=True, spoil_crc=4)):
        levels, _ = can([frame, CanFrame(0x1A1, b"ok")], 500_000)
        sent = decode(wave(levels), CanRates(500_000))
        assert sent.faults.tolist() == [CRC, 0] and int(sent.ident[1]) == 0x1A1


def test_six_equal_bits_are_an_error_frame() -> None:
    bits, _ = can_bits(CanFrame(0x1A0, bytes(range(8))))
    levels = [(1, 40_000.0), *((level, 2000.0) for level, _ in bits[:40]), (0, 12_000.0), (1, 60_000.0)]
    good, _ = can([CanFrame(0x1A1, b"ok")], 500_000)
    sent = decode(wave([*levels, *good]), CanRates(500_000))
    assert sent.faults.tolist() == [STUFF, 0] and [int(f) for f in sent.form] == [Form.BASE, Form.BASE]
    # What was read before it is kept.
    ident, data = said(sent)[0]
    assert int(sent.flags[0]) & Flag.ERROR and ident == 0x1A0 and data == bytes(range(len(data)))


@pytest.mark.parametrize("flag", [6, 9, 12])
@pytest.mark.parametrize("after", [1, 2])
def test_an_overload_frame_in_the_intermission_is_one(flag: int, after: int) -> None:
    first, _ = can(FRAMES[:1], 500_000, gap_bits=after)
    second, _ = can(FRAMES[1:2], 500_000, rest=0.0)
    line = wave([*first[:-1], (0, flag * BIT), (1, 11 * BIT), *second, (1, 40 * BIT)])
    sent = decode(line, CanRates(500_000))
    assert sent.faults.tolist() == [0, OVERLOAD, 0] and int(sent.form[1]) == Form.NONE
    begin, end = int(sent.starts[1]), int(sent.ends[1])
    assert end - begin == (flag + 8) * BIT and begin - sent.ends[0] == after * BIT
    (found,) = fields_of(line, begin, end, CanRates(500_000))
    assert (found.name, found.start, found.end, found.fault) == ("overload", begin, begin + flag * BIT, "overload")


def test_what_the_recording_cut_is_no_frame() -> None:
    levels, spans = can(FRAMES, 500_000, gap_bits=12)
    whole = wave(levels)
    for begin in range(spans[0][0] + 3_000, spans[0][1] - 3_000, 7_000):
        cut = whole.part(begin, spans[-1][0] + 20_000)
        sent = decode(cut, CanRates(500_000))
        assert said(sent)[-1] == said(decode(whole, CanRates(500_000)))[-2]
        assert len(sent) == len(FRAMES) - 2 and not (sent.faults & ~np.uint8(ACK)).any()


def test_what_is_unknown_cuts_what_lies_there() -> None:
    levels, spans = can(FRAMES, 500_000, gap_bits=12)
    whole = wave(levels)
    hole = (spans[2][0] + 20_000, spans[2][0] + 40_000)
    sent = decode(Logic(whole.start, whole.end, whole.first, whole.edges, (hole,)), CanRates(500_000))
    assert [i for i, _ in said(sent)] == [f.ident for n, f in enumerate(FRAMES) if n != 2]


frames = st.builds(
    lambda ident, extended, size, fd, brs, iso, seed: CanFrame(
        ident & (0x1FFFFFFF if extended else 0x7FF),
        np.random.default_rng(seed).integers(0, 256, DLC[size % (16 if fd else 9)], dtype=np.uint8).tobytes(),
        extended, fd=fd, brs=fd and brs, iso=iso,
    ),
    st.integers(0, 0x1FFFFFFF), st.booleans(), st.integers(0, 15), st.booleans(), st.booleans(), st.booleans(),
    st.integers(0, 10**6),
)  # fmt: skip


@given(st.lists(frames, min_size=1, max_size=6))
def test_what_is_sent_is_read(sent_frames: list[CanFrame]) -> None:
    levels, _ = can(sent_frames, 500_000, 2_000_000)
    sent = decode(wave(levels), CanRates(500_000, 2_000_000))
    assert said(sent) == [(f.ident, f.data) for f in sent_frames] and not sent.faults.any()


@given(st.lists(st.integers(50, 20_000), max_size=400), st.booleans())
def test_any_levels_are_read_without_end_or_crash(lengths: list[int], high: bool) -> None:
    edges = np.cumsum(np.array([0, *lengths], np.int64))[1:]
    logic = Logic(0, int(edges[-1]) + 50_000 if len(edges) else 1, int(high), edges)
    sent = decode(logic, CanRates(500_000, 2_000_000))
    assert len(sent.offsets) == len(sent) + 1 and (np.diff(sent.starts) > 0).all()


def test_the_bits_of_a_frame_are_named() -> None:
    levels, spans = can([CanFrame(0x18FEF117, b"\x01", extended=True)], 500_000)
    bits = bits_of(wave(levels), spans[0][0], CanRates(500_000))
    fields = [FIELDS[k] for k in bits[:, 2].tolist() if FIELDS[k] != "stuff"]
    named = list(dict.fromkeys(fields))
    assert named == [
        "sof",
        "id",
        "srr",
        "ide",
        "rtr",
        "fdf",
        "r0",
        "dlc",
        "data",
        "crc",
        "crc_delimiter",
        "ack",
        "ack_delimiter",
        "eof",
    ]
    assert (np.diff(bits[:, 0]) == 2000).all() and fields.count("id") == 29 and fields.count("eof") == 7


def alone(times: int, active: int, taken: bool = False) -> Logic:
    """A frame that its sender repeats for want of an acknowledgement: with active error flags, then passive ones."""
    # Up to and with the acknowledgement slot that stays recessive; without the rest that follows.
    bits, _ = can_bits(CanFrame(0x1A0, b"\x12\x34", acknowledged=False))
    until_ack = bits[:-8]
    levels: list[tuple[int, float]] = [(1, 60 * 2000.0)]
    for number in range(times):
        levels += [(level, 2000.0) for level, _ in until_ack]
        if number < active:
            levels += [(0, 6 * 2000.0), (1, 11 * 2000.0)]
        else:
            # A passive flag, its delimiter, intermission, suspended transmission.
            levels += [(1, (6 + 8 + 3 + 8) * 2000.0)]
    last, _ = can([CanFrame(0x1A0, b"\x12\x34", acknowledged=taken)] if taken else [CanFrame(0x1A1)], 500_000, rest=0.0)
    return wave([*levels, *last, (1, 60 * 2000.0)])


def test_a_lone_nodes_repeats_are_counted_and_named() -> None:
    found = read_can(alone(24, 16))
    repeated = next(one for one in found.said if "times in a row" in one)
    assert repeated.startswith("1A0 was sent 24 times in a row (16 with an active error flag, 8 with a passive one)")
    assert "never acknowledged" in repeated and any("alone on the bus" in one for one in found.said)
    words = [fault_words(int(faults)) for faults in found.frames.faults]
    assert words.count(["ack"]) == 24 and words.count(["error-flag"]) == 16


def test_a_repeat_that_is_acknowledged_in_the_end_is_told_as_that() -> None:
    found = read_can(alone(5, 5, taken=True))
    assert any("1A0 was sent 5 times in a row" in one and "then it was acknowledged" in one for one in found.said)


def test_what_needs_no_acknowledgement_is_no_repeat() -> None:
    frames = [CanFrame(0x100 + n, bytes([n]), acknowledged=False) for n in range(12)]
    found = read_can(wave(can(frames, 500_000)[0]))
    assert any("loopback" in one and one.startswith("12 frames") for one in found.said)
    assert not any("in a row" in one for one in found.said)


def read_can(line: Logic) -> Guess:
    return guesses(line, Asked(), "auto")[0]
