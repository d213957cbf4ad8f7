"""Which code a line is in: what is foretold counts, what chance, freedom and repetition would give does not."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from keel.lines.code import Asked, Guess
from keel.lines.codes import guesses, is_told
from keel.lines.evidence import certainty, different, entropy, of_an_edge
from keel.lines.levels import levels_of
from keel.media.every import MEDIA
from keel.model.faults import SPOILS_NOTHING, Fault
from keel.model.waveform import Analog, Channel, Logic
from keel.probe.candidates import Wanted
from keel.probe.channels import probed
from keel.probe.decoding import Decoded, decode_channels
from tests.lines.pulses_of_things import THINGS
from tests.lines.waves import volts
from tests.lines.wires import CanFrame, Level, can, uart, wave

CHANCE = np.random.default_rng(5).integers(0, 256, 3_000, dtype=np.uint8).tobytes()


def best(line: Logic, code: str = "auto") -> Guess:
    found = guesses(line, Asked(), code)
    assert is_told(found)
    return found[0]


def decoded(**waves: Logic | Analog) -> Decoded:
    channels = [probed(Channel(name, n, one)) for n, (name, one) in enumerate(waves.items(), 1)]
    return decode_channels(channels, [Wanted()], Asked())


def test_what_a_bit_tells() -> None:
    # By hand: of 1/4, -1/4 log2(1/4) - 3/4 log2(3/4) = 0.5 + 0.3113 bits.
    assert entropy(0.5) == 1.0 and entropy(0.25) == pytest.approx(0.8113, abs=1e-4) and entropy(0.0) == 0.0
    assert certainty(0.0) == 1.0 and certainty(0.25) == pytest.approx(0.1887, abs=1e-4) and certainty(0.6) == 0.0
    # What is foretold to be the same every time tells nothing.
    assert certainty(0.0, ones=0.0) == certainty(0.0, ones=1.0) == 0.0
    # Edges anywhere spread by 1/sqrt(12) of a bit.
    assert of_an_edge(12**-0.5) == pytest.approx(0.0, abs=1e-9) and of_an_edge(12**-0.5 / 4) == pytest.approx(2.0)
    assert different(np.array([7, 7, 7])) == 0 and different(np.array([7, 8, 7])) == 1


@pytest.mark.parametrize("name", THINGS)
@pytest.mark.parametrize("upside_down", [False, True])
def test_what_is_no_line_is_read_as_none(name: str, upside_down: bool) -> None:
    line = THINGS[name]()
    found = guesses(line.inverted if upside_down else line, Asked())
    assert not is_told(found), (found[0].code, found[0].evidence)


def with_parity(data: bytes, rate: float, wrong_each: int) -> list[Level]:
    """Eight bits with even parity, of which one in so many is wrong."""
    bit, out = 1e9 / rate, [(1, 20e9 / rate)]
    for number, byte in enumerate(data):
        levels = [byte >> place & 1 for place in range(8)]
        parity = sum(levels) % 2 ^ int(number % wrong_each == wrong_each // 2)
        out += [(0, bit), *((level, bit) for level in (*levels, parity)), (1, bit * (1 if number % 50 else 25))]
    return [*out, (1, 20 * bit)]


@pytest.mark.parametrize("wrong_each", [100, 1_000])
def test_eight_bits_with_parity_and_a_few_errors_are_never_nine_without(wrong_each: int) -> None:
    found = best(wave(with_parity(CHANCE, 9_600, wrong_each)))
    assert (found.settings["bits"], found.settings["parity"]) == (8, "even")
    wrong = found.frames.faults & np.uint32(Fault.PARITY) != 0
    assert wrong.sum() == pytest.approx(len(CHANCE) / wrong_each, abs=1) and found.frames.faults[~wrong].sum() == 0


@pytest.mark.parametrize("rate", [50, 4_800, 1_000_000, 5_000_000])
@pytest.mark.parametrize("idle", [(0.3,), (0.5,), (0.7,), (1.3,), (3.4,), (0.3, 0.5, 0.7, 1.3, 3.4)])
def test_an_idle_of_any_fraction_of_a_bit_changes_nothing(rate: int, idle: tuple[float, ...]) -> None:
    data = CHANCE[:200]
    pauses = np.random.default_rng(1).choice(idle, len(data)).tolist()
    found = best(wave(uart(data, rate, pauses=pauses)))
    assert (found.code, found.settings["bits"], found.settings["parity"]) == ("uart", 8, "none")
    assert found.rate == pytest.approx(rate, rel=2e-3) and not found.inverted
    assert found.frames.data.tobytes() == data and not found.faulty


def test_ten_samples_a_bit_are_enough() -> None:
    line = wave(uart(CHANCE[:150], 4_800, pauses=np.random.default_rng(1).choice([0.3, 0.5, 1.3], 150).tolist()))
    samples = volts(line, 1e9 / 48_000, -0.4, 0.4, 20_000.0, 0.01)
    (found,) = decoded(probe=Analog(0, 1e9 / 48_000, samples.astype(np.float32))).lines
    assert found.guess.rate == pytest.approx(4_800, rel=5e-3)
    assert found.guess.frames.data.tobytes() == CHANCE[:150]


def test_two_stop_bits_are_no_other_code() -> None:
    found = best(wave(uart(CHANCE[:300], 9_600, stop=2)))
    assert (found.settings["bits"], found.settings["parity"], found.settings["stop"]) == (8, "none", 2.0)


def test_a_swing_that_noise_nearly_hides_is_still_one() -> None:
    line = wave(uart(b"made up words 0123456789\r\n" * 12, 9_600, pauses=[30.0]))
    samples = volts(line, 1e9 / 9_600 / 40, 0.0, 3.3, noise=0.5)
    (found,) = decoded(probe=Analog(0, 1e9 / 9_600 / 40, samples.astype(np.float32))).lines
    assert (found.guess.code, len(found.guess.frames), found.guess.faulty) == ("uart", 12, 0)
    random = np.random.default_rng(2)
    for wide in (1, 5, 20):
        alone = np.convolve(random.normal(0, 1, 60_000), np.ones(wide) / wide, "same")
        assert not levels_of(Analog(0, 1_000.0, alone.astype(np.float32))).swing


@pytest.mark.parametrize("sign", [1, -1])
def test_a_pair_that_rests_at_nothing_and_swings_both_ways_is_a_line(sign: int) -> None:
    bit = 1e9 / 115_200
    driven = volts(wave(uart(b"one message\r\n", 115_200, rest=0.5)), bit / 12, -2.0, 2.0)
    quiet = np.zeros(3_000)
    samples = sign * np.concatenate([quiet, driven, quiet, driven, quiet])
    samples += np.random.default_rng(1).normal(0, 0.02, len(samples))
    (found,) = decoded(pair=Analog(0, bit / 12, samples.astype(np.float32))).lines
    assert found.guess.code == "uart" and found.guess.inverted == (sign < 0)
    assert found.guess.frames.data.tobytes() == b"one message\r\n" * 2


def rippling_pair() -> tuple[Analog, Analog, int]:
    """Both wires of a bus at a load of 2 %, on a common voltage that goes up and down by nearly the swing."""
    levels: list[Level] = []
    for number in range(12):
        levels += [*can([CanFrame(0x100 + number, CHANCE[8 * number : 8 * number + 8])], 500_000)[0], (1, 12e6)]
    step, random = 100.0, np.random.default_rng(3)
    dominant = volts(wave(levels), step, 1.0, 0.0)
    ripple = 0.9 * np.sin(2 * np.pi * np.arange(len(dominant)) * step / 37_000)
    high, low = (2.5 + sign * dominant + ripple + random.normal(0, 0.03, len(dominant)) for sign in (1, -1))
    return Analog(0, step, high.astype(np.float32)), Analog(0, step, low.astype(np.float32)), 12


def test_a_pair_at_little_load_with_ripple_is_read_once() -> None:
    high, low, count = rippling_pair()
    (found,) = decoded(A=high, B=low).lines
    assert found.of.roles == {"A": "high", "B": "low"}
    assert (found.guess.code, len(found.guess.frames), found.guess.faulty) == ("can", count, 0)
    (alone,) = decoded(A=high).lines
    assert (alone.guess.code, len(alone.guess.frames), alone.guess.faulty) == ("can", count, 0)


def test_what_drives_a_bus_is_not_read_again() -> None:
    frames = [CanFrame(0x123, CHANCE[n : n + 8]) for n in range(20)]
    line = wave(can(frames, 500_000)[0])
    alone = wave(can([replace(frame, acknowledged=False) for frame in frames], 500_000)[0])
    for echo in (alone, line):
        done = decoded(bus=line, tx=echo)
        assert len(done.lines) == 1 and "at the same time" in str(done.said)
    # Before and after an isolator are two lines.
    late = Logic(line.start, line.end + 200, line.first, line.edges + 150)
    assert len(decoded(before=line, after=late).lines) == 2


def test_media_agree_on_what_spoils_nothing() -> None:
    for medium in MEDIA:
        for fault in set(medium.faults) - {Fault.LOST, Fault.TRUNCATED}:
            spoils_nothing = medium.spoils.get(fault, "payload") == "nothing"
            assert spoils_nothing == bool(SPOILS_NOTHING & fault), (medium.name, fault)
        assert set(medium.spoils) <= set(medium.faults)
