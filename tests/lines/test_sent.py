"""SENT read from levels, as a sensor written from the standard drives them.

Source: SAE J2716 (2016), 5.2.3 (pulses), 5.2.4 (serial messages), 5.4.2 (the examples of checksums).
"""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.errors import InputError
from keel.lines.code import Asked, Guess, How
from keel.lines.codes import guesses, is_told
from keel.lines.pulses import bit_time
from keel.lines.sent import explain, read
from keel.lines.sent_slow import crc6
from keel.media.every import headers_of
from keel.model.faults import fault_words
from keel.model.waveform import Logic
from tests.command import keel
from tests.lines.waves import vcd
from tests.lines.wires import Level, shaken, wave

EXAMPLES = {
    (5, 3, 14, 5, 3, 14): 15, (7, 4, 8, 7, 4, 8): 3, (4, 10, 12, 4, 10, 12): 10, (7, 8, 15, 7, 8, 15): 5,
    (9, 1, 13, 9, 1, 13): 6, (0, 0, 0, 0, 0, 0): 5,
}  # fmt: skip
"""Checksums of six nibbles, as the standard lists them for the recommended form."""


def crc4(nibbles: Sequence[int], legacy: bool = False) -> int:
    """Bit by bit: x⁴ + x³ + x² + 1, from 0101 on; the recommended form has a nibble of 0 behind the data."""
    register = 0b0101
    for nibble in [*nibbles, *([] if legacy else [0])]:
        for k in range(3, -1, -1):
            register = register << 1 | nibble >> k & 1
            if register & 0x10:
                register ^= 0b11101
    return register


@dataclass(frozen=True)
class Said:
    """A message: status, data, and what is wrong with it."""

    status: int
    data: tuple[int, ...]
    wrong: str = ""


def sent(
    said: Sequence[Said],
    tick_us: float = 3.0,
    total: int = 0,
    legacy: bool = False,
    drift: Callable[[int], float] = lambda _: 1.0,
    wait_us: float = 0.0,
) -> list[Level]:
    """Messages one after another; with a ``total`` in ticks, a pause fills each up to it."""
    levels: list[Level] = [(1, 100_000.0)]
    for number, one in enumerate(said):
        tick = tick_us * 1_000 * drift(number)
        check = crc4(one.data, legacy) ^ (3 if one.wrong == "crc" else 0)
        pulses = [56 * (1.04 if one.wrong == "calibration" else 1.0)]
        pulses += [12 + nibble for nibble in (one.status, *one.data, check)]
        if one.wrong == "calibration":
            # The clock is off for this message alone.
            pulses = [pulses[0], *(pulse * 1.04 for pulse in pulses[1:])]
        if total:
            pulses.append(total - sum(pulses))
        for pulse in pulses:
            levels += [(0, 5 * tick), (1, (pulse - 5) * tick)]
        if wait_us:
            levels += [(0, 5 * tick), (1, wait_us * 1_000)]
    return [*levels, (0, 5 * tick_us * 1_000), (1, 200_000.0)]


def counting(count: int, nibbles: int = 6, slow: Callable[[int], int] = lambda _: 0) -> list[Said]:
    return [Said(slow(n), tuple((n * (k + 3) + k) & 15 for k in range(nibbles))) for n in range(count)]


def lines_of(line: Logic, **settings: str) -> Guess:
    (found,) = read(line, bit_time(line), Asked(settings=settings))
    return found


def payload(one: Said) -> bytes:
    nibbles = [*one.data, *([0] if len(one.data) % 2 else [])]
    return bytes([one.status, *(a << 4 | b for a, b in zip(nibbles[::2], nibbles[1::2], strict=True))])


def test_checksums_are_those_of_the_standard() -> None:
    for nibbles, check in EXAMPLES.items():
        assert crc4(nibbles) == check
    assert [crc4(nibbles, legacy=True) for nibbles in EXAMPLES] == [12, 5, 3, 15, 10, 15]


@pytest.mark.parametrize("tick_us", [3.0, 10.0, 90.0])
@pytest.mark.parametrize("nibbles", range(1, 7))
@pytest.mark.parametrize("total", [0, 400])
def test_messages_are_read_whatever_they_hold(tick_us: float, nibbles: int, total: int) -> None:
    said = counting(40, nibbles)
    line = wave(sent(said, tick_us, total))
    found = lines_of(line)
    assert (found.settings["nibbles"], found.settings["pause"]) == (nibbles, "yes" if total else "no")
    assert found.settings["checksum"] == "recommended" and found.rate == pytest.approx(1e6 / tick_us, rel=1e-3)
    frames = found.frames
    assert [frames.payload(n) for n in range(len(frames))] == [payload(one) for one in said] and not found.faulty
    assert frames.duration is not None and found.explained > (0.9 if not total else 0.3)
    first = said[0]
    ticks = 56 + sum(12 + n for n in (first.status, *first.data, crc4(first.data)))
    assert int(frames.time[0]) == line.edges[0] and int(frames.duration[0]) == pytest.approx(
        ticks * tick_us * 1e3, abs=2
    )


def test_the_legacy_checksum_is_told_and_said_by_hand() -> None:
    line = wave(sent(counting(40), legacy=True))
    assert lines_of(line).settings["checksum"] == "legacy" and lines_of(line).faulty == 0
    assert not read(line, bit_time(line), Asked(settings={"checksum": "recommended"}))
    for wrong in ({"checksum": "odd"}, {"nibbles": "7"}, {"nibbles": "x"}):
        with pytest.raises(InputError, match="--set"):
            lines_of(line, **wrong)


@pytest.mark.parametrize("off", [0.8, 1.2])
def test_a_clock_that_is_off_and_wanders_is_followed(off: float) -> None:
    said = counting(200)
    line = shaken(wave(sent(said, drift=lambda n: off * (1 + 0.1 * np.sin(n / 40)))), 60.0)
    found = lines_of(line)
    assert len(found.frames) == 200 and found.faulty == 0


def test_what_is_wrong_is_told() -> None:
    said = [*counting(10), Said(0, (1, 2, 3, 4, 5, 6), "crc"), *counting(5), Said(0, (6, 5, 4, 3, 2, 1), "calibration")]
    found = lines_of(wave(sent([*said, *counting(5)])))
    faults = [fault_words(int(fault)) for fault in found.frames.faults]
    # After the one whose clock was off the next is off from it again.
    assert faults == [[]] * 10 + [["crc"]] + [[]] * 5 + [["calibration"], ["calibration"]] + [[]] * 4


def test_a_sensor_that_waits_for_requests_is_said_to() -> None:
    found = lines_of(wave(sent(counting(30), wait_us=4_000.0)))
    assert len(found.frames) == 30 and not found.faulty
    # As long as it is silent, that is no pause pulse.
    assert found.said and found.said[0].startswith("waits for requests: silent for 4")


def test_the_short_slow_channel_is_read() -> None:
    ident, byte = 0xA, 0x5C
    bits = [int(bit) for bit in f"{ident:04b}{byte:08b}{crc4([ident, byte >> 4, byte & 15]):04b}"]
    found = lines_of(wave(sent(counting(64, slow=lambda n: (8 if n % 16 == 0 else 0) | bits[n % 16] << 2))))
    slow = [n for n in range(len(found.frames)) if found.frames.form[n] == 22]
    assert [(int(found.frames.ident[n]), found.frames.payload(n)) for n in slow] == [(ident, bytes([byte]))] * 4
    assert not found.frames.faults[slow].any()


@pytest.mark.parametrize(("wide", "ident", "value"), [(False, 0x29, 0xABC), (True, 0x7, 0xBEEF)])
def test_the_enhanced_slow_channel_is_read(wide: bool, ident: int, value: int) -> None:
    three = [1, 1, 1, 1, 1, 1, 0, int(wide)]
    four = f"{ident:04b}" if wide else f"{ident >> 4:04b}"
    more = f"{value >> 12:04b}" if wide else f"{ident & 15:04b}"
    three += [*map(int, four), 0, *map(int, more), 0]
    twelve = [int(bit) for bit in f"{value & 0xFFF:012b}"]
    order = [bit for pair in zip(twelve, three[6:], strict=True) for bit in pair]
    register = 0b010101
    for bit in [*order, 0, 0, 0, 0, 0, 0]:
        # x⁶ + x⁴ + x³ + 1.
        register = register << 1 | bit
        register ^= 0b1011001 if register & 0x40 else 0
    assert int(crc6(np.array([order]))[0]) == register
    two = [*map(int, f"{register:06b}"), *twelve]
    found = lines_of(wave(sent(counting(72, slow=lambda n: three[n % 18] << 3 | two[n % 18] << 2))))
    slow = [n for n in range(len(found.frames)) if found.frames.form[n] == 22]
    assert [(int(found.frames.ident[n]), found.frames.payload(n)) for n in slow] == [
        (ident, value.to_bytes(2, "big"))
    ] * 4
    assert not found.frames.faults[slow].any()


def test_a_message_is_taken_apart_over_its_waveform() -> None:
    said = [*counting(10), Said(3, (1, 2, 3, 4, 5, 6), "crc"), *counting(5)]
    line = wave(sent(said))
    found = lines_of(line)
    frames = found.frames
    assert frames.duration is not None
    time, took = int(frames.time[10]), int(frames.duration[10])
    fields = explain(line, How(found.how, found.settings), time, time + took)
    assert [field.name for field in fields][:3] == ["calibration", "status", "nibble_1"]
    assert [field.value for field in fields[1:-1]] == [3, 1, 2, 3, 4, 5, 6]
    assert fields[-1].name == "crc" and fields[-1].fault == "crc" and fields[-1].end == time + took
    assert fields[0].text == "3.000 µs a tick" and fields[0].start == time


@pytest.mark.parametrize(
    ("how", "first", "second"),
    [
        ("12+12", 0x123, 0x654),
        ("16+8", 0x1234, 0x65),
        ("14+10", 0x123 << 2 | 1, 0x65 << 2 | 0),
        ("secure", 0x123, 0x45),
    ],
)
def test_six_nibbles_are_two_channels_as_a_person_says(how: str, first: int, second: int) -> None:
    line = wave(sent([Said(0, (1, 2, 3, 4, 5, 6))] * 5))
    found = lines_of(line, fast_channels=how)
    assert found.frames.duration is not None
    time = int(found.frames.time[1])
    fields = explain(line, How(found.how, found.settings), time, time + int(found.frames.duration[1]))
    named = {field.name: field for field in fields}
    assert named["channel_1"].value == first
    assert named["counter" if how == "secure" else "channel_2"].value == second
    assert named["channel_1"].start == named["nibble_1"].start
    with pytest.raises(InputError, match="fast_channels"):
        lines_of(line, fast_channels="13+11")


def test_it_is_found_by_itself_and_noise_is_not() -> None:
    line = wave(sent(counting(60)))
    for one, inverted in ((line, False), (line.inverted, True)):
        found = guesses(one, Asked())
        assert is_told(found) and (found[0].code, found[0].inverted) == ("sent", inverted)
        assert found[0].rate == pytest.approx(333_333, rel=1e-3)
    for seed in range(4):
        edges = np.cumsum(np.random.default_rng(seed).exponential(30_000, 40_000).astype(np.int64) + 1)
        noise = Logic(0, int(edges[-1]) + 1, 1, edges)
        assert not read(noise, bit_time(noise), Asked())


def test_commands_give_the_slow_channel_its_kind(tmp_path: Path) -> None:
    bits = [int(bit) for bit in f"{0xA:04b}{0x5C:08b}{crc4([0xA, 5, 0xC]):04b}"]
    said = counting(32, slow=lambda n: (8 if n % 16 == 0 else 0) | bits[n % 16] << 2)
    (tmp_path / "x.vcd").write_bytes(vcd(sensor=wave(sent(said))))
    done = keel("decode", tmp_path / "x.vcd", "-o", tmp_path / "x.keel", "--json")
    (line,) = json.loads(done.stdout)["lines"]
    notes = keel("decode", tmp_path / "x.vcd", "-o", tmp_path / "y.keel").stdout
    assert "SENT at 333,333 ticks/s" in notes
    assert (line["code"], round(line["rate"]), line["bus"]) == ("sent", 333_333, "sensor")
    rows = [json.loads(row) for row in keel("frames", tmp_path / "x.keel", "--json", "--fields").stdout.splitlines()]
    slow = [row for row in rows if row["kind"] == "slow"]
    assert [(row["id"], row["payload"], row["raw"]) for row in slow] == [("0A", "5C", None)] * 2
    assert {row["id"] for row in rows if row["kind"] == "data"} == {"0"}


@given(st.lists(st.integers(1, 300), max_size=120), st.booleans())
def test_any_levels_are_read_without_crash(lengths: list[int], high: bool) -> None:
    edges = np.cumsum(np.array([0, *lengths], np.int64) * 3_000)
    line = Logic(0, int(edges[-1]) + 10**6, int(high), edges[1:])
    for found in read(line, bit_time(line), Asked()):
        assert found.frames.duration is not None and (found.frames.duration > 0).all()


def low(width_us: float, delay_us: float) -> list[Level]:
    """A request: somebody pulls the wire low, and a while passes."""
    return [(0, width_us * 1_000), (1, delay_us * 1_000)]


def asked(said: Sequence[Said], silent: Sequence[int] = (), pause_us: Sequence[float] = ()) -> list[Level]:
    """A sensor that sends when the wire was pulled low for 90 µs, 150 µs after that; not to requests in ``silent``."""
    levels: list[Level] = [(1, 400_000.0)]
    for number, one in enumerate(said):
        levels += low(90.0, 2_000.0 if number in silent else 150.0)
        if number not in silent:
            # Message alone: without the rest before and behind it.
            levels += [*sent([one])[1:-1], (1, 2_000_000.0)]
        if number < len(pause_us):
            levels.append((1, pause_us[number] * 1_000))
    return levels


def test_requests_are_told_with_width_and_delay() -> None:
    found = lines_of(wave(asked(counting(20))))
    assert len(found.frames) == 20 and not found.faulty
    headers = headers_of(found.frames, [found.bus])
    assert all(one is not None and (one["request"], one["delay"]) == (90_000, 150_000) for one in headers)
    assert any(one.startswith("waits for requests: asked 20 times, by 90 µs") for one in found.said)
    assert not any("no answer" in one or "never asked" in one for one in found.said)


def test_a_request_without_an_answer_is_a_frame_with_that_fault() -> None:
    found = lines_of(wave(asked(counting(20), silent=(7, 12))))
    alone = [n for n in range(len(found.frames)) if found.frames.faults[n]]
    assert len(found.frames) == 20 and len(alone) == 2 and found.faulty == 2
    for row in alone:
        assert fault_words(int(found.frames.faults[row])) == ["no-response"]
        header = headers_of(found.frames, [found.bus])[row]
        assert header is not None and header["request"] == 90_000 and header["delay"] is None
    assert any("asked, no answer: 2 times" in one for one in found.said)


def test_a_silence_in_which_nobody_asks_is_not_the_sensors_fault() -> None:
    found = lines_of(wave(asked(counting(20), pause_us=[0.0] * 9 + [60_000.0])))
    assert any("never asked from" in one for one in found.said) and not any("no answer" in one for one in found.said)


def test_messages_that_ringing_disturbs_are_kept_as_faulty_frames() -> None:
    said = counting(30)
    levels = sent(said)
    line = wave(levels)
    tick = 3_000
    # A short dip in the middle of a nibble: one falling edge too many. Of message 10, in its second nibble of data.
    falls = line.edges[::2]
    place = 10 * 9 + 3
    dip = int(falls[place]) + 8 * tick
    edges = np.sort(np.append(line.edges, [dip, dip + 1_500]))
    found = lines_of(Logic(line.start, line.end, line.first, edges))
    assert len(found.frames) == 30 and found.faulty == 1
    assert fault_words(int(found.frames.faults[10])) == ["length"]
    # The begin is that of the message, and what was read before the dip is kept.
    assert int(found.frames.time[10]) == falls[10 * 9] and found.frames.payload(10) == payload(said[10])[:2][
        :1
    ] + bytes([said[10].data[0] << 4])
    fields = explain(
        Logic(line.start, line.end, line.first, edges), How(found.how, found.settings), int(falls[90]), int(falls[99])
    )
    assert [field.name for field in fields] == ["calibration", "status", "nibble_1", "disturbed"]


def test_fast_channels_are_numbers_of_the_header() -> None:
    said = counting(20)
    found = lines_of(wave(sent(said)), fast_channels="12+12")
    headers = headers_of(found.frames, [found.bus])
    for one, header in zip(said, headers, strict=True):
        a, b, c, d, e, f = one.data
        assert header is not None and header["channel_1"] == a * 256 + b * 16 + c
        assert header["channel_2"] == f * 256 + e * 16 + d and header["request"] is None
