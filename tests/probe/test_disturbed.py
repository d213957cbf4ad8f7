"""Lines as they are met: late and early edges, clocks that are off, rounded and ringing edges, offsets, drift,
glitches, recordings that begin and end in the middle. Code, rate and polarity are found by themselves on all."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pytest

from keel.lines.code import Asked
from keel.model.waveform import Analog, Channel, Logic
from keel.probe.candidates import Wanted
from keel.probe.channels import probed
from keel.probe.decoding import decode_channels
from keel.probe.lines import Line
from tests.lines.test_can_wave import FLEXIBLE, FRAMES
from tests.lines.wires import can, shaken, uart, wave

Volts = npt.NDArray[np.float64]
TEXT = b"".join(b"$SDDPT,%d.%d,0.4*%02X\r\n" % (n % 40, n % 10, n % 251) for n in range(30))


@dataclass(frozen=True)
class Case:
    """A line: its levels, how it is read, and how it rests where it is not exchanged."""

    line: Logic
    code: str
    rate: float
    fast: float | None
    messages: int
    volts: tuple[float, float]


MANY = 8 * len(FLEXIBLE)
CASES = {
    "can": Case(wave(can(FRAMES * 8, 500_000)[0]), "can", 500_000, None, 56, (2.5, 1.5)),
    "canfd": Case(wave(can(FLEXIBLE * 8, 500_000, 2_000_000)[0]), "canfd", 500_000, 2_000_000, MANY, (0.0, 3.3)),
    "slow can": Case(wave(can(FRAMES * 8, 125_000)[0]), "can", 125_000, None, 56, (0.0, 5.0)),
    "text": Case(wave(uart(TEXT, 9_600)), "uart", 9_600, None, 30, (0.0, 3.3)),
    "RS-232": Case(wave(uart(TEXT, 115_200)), "uart", 115_200, None, 30, (7.0, -7.0)),
    "parity": Case(wave(uart(TEXT, 19_200, 7, "even")), "uart", 19_200, None, 30, (0.0, 5.0)),
}


def bit_of(case: Case) -> float:
    """Its shortest bit, in ns."""
    return 1e9 / (case.fast or case.rate)


def off(line: Logic, share: float) -> Logic:
    """The same from a clock that is off by a share."""
    return Logic(
        line.start, round(line.end * (1 + share)), line.first, np.rint(line.edges * (1 + share)).astype(np.int64)
    )


def with_glitches(line: Logic, bit: float) -> Logic:
    """Now and then a spike that is much shorter than a bit, in the middle of a longer stay on a level."""
    gaps = np.flatnonzero(np.diff(line.edges) > 1.5 * bit)[::7]
    random = np.random.default_rng(1)
    spikes = line.edges[gaps] + np.rint(random.uniform(0.3, 0.8, len(gaps)) * bit).astype(np.int64)
    ends = spikes + np.rint(random.uniform(0.02, 0.15, len(gaps)) * bit).astype(np.int64)
    edges = np.sort(np.concatenate([line.edges, spikes, ends]))
    return Logic(line.start, line.end, line.first, edges)


def sampled(case: Case, line: Logic, per_bit: int = 14) -> Analog:
    """What an instrument samples of it: levels as volts, without anything wrong."""
    step = bit_of(case) / per_bit
    times = np.arange(line.start, line.end, step)
    levels = line.first ^ (np.searchsorted(line.edges, times, side="right") & 1)
    low, high = case.volts
    return Analog(line.start, step, low + (high - low) * levels.astype(np.float64))


def rounded(samples: Volts, time: float) -> Volts:
    """Behind a resistor and a capacitor; ``time`` in samples."""
    out, value, share = np.empty_like(samples), samples[0], 1 - np.exp(-1 / time)
    for n, sample in enumerate(samples.tolist()):
        value += share * (sample - value)
        out[n] = value
    return out


def ringing(samples: Volts, period: float, swing: float) -> Volts:
    """Each edge followed by an oscillation that dies away: a fifth of the swing at first."""
    kernel = np.exp(-np.arange(40) / (1.2 * period)) * np.sin(2 * np.pi * np.arange(40) / period)
    return samples + np.convolve(np.diff(samples, prepend=samples[0]), 0.2 * kernel)[: len(samples)]


def noisy(samples: Volts, case: Case, share: float = 0.015) -> Volts:
    return samples + np.random.default_rng(1).normal(0, share * abs(case.volts[1] - case.volts[0]), len(samples))


def read(wave: Logic | Analog) -> list[Line]:
    """The lines in one channel, with nothing said of it."""
    return decode_channels([probed(Channel("probe", 1, wave))], [Wanted()], Asked()).lines


def check(case: Case, found: Sequence[Line], least: float = 1.0, off_by: float = 0.006) -> None:
    (line,) = found
    guess = line.guess
    assert guess.code == case.code and guess.rate == pytest.approx(case.rate, rel=off_by + 0.001)
    assert guess.fast_rate == (None if case.fast is None else pytest.approx(case.fast, rel=off_by + 0.001))
    good = len(guess.frames) - guess.faulty
    assert good >= least * case.messages and guess.explained > 0.9 * least


def volts(wave: Analog, samples: Volts) -> Analog:
    return Analog(wave.start, wave.step, samples.astype(np.float32))


DISTURBED: dict[str, Callable[[Case], Logic | Analog]] = {
    "jitter": lambda case: shaken(case.line, 0.02 * bit_of(case)),
    "fast clock": lambda case: off(case.line, -0.02),
    "slow clock": lambda case: off(case.line, 0.02),
    "exchanged": lambda case: case.line.inverted,
    "noise": lambda case: volts(clean := sampled(case, case.line), noisy(clean.samples, case, 0.05)),
    "rounded": lambda case: volts(clean := sampled(case, case.line), noisy(rounded(clean.samples, 4.0), case)),
    "ringing": lambda case: volts(clean := sampled(case, case.line), noisy(ringing(clean.samples, 5.0, 1.0), case)),
    "offset": lambda case: volts(clean := sampled(case, case.line), noisy(clean.samples + 11.0, case)),
    "drift": lambda case: volts(
        clean := sampled(case, case.line),
        noisy(clean.samples + np.linspace(0, 0.5 * abs(case.volts[1] - case.volts[0]), len(clean)), case),
    ),
    "coarse": lambda case: volts(clean := sampled(case, case.line, 4), noisy(clean.samples, case)),
    "glitches": lambda case: with_glitches(case.line, bit_of(case)),
}


@pytest.mark.parametrize("wrong", DISTURBED)
@pytest.mark.parametrize("name", CASES)
def test_code_rate_and_polarity_are_found(name: str, wrong: str) -> None:
    case = CASES[name]
    found = read(DISTURBED[wrong](case))
    rate = {"fast clock": 1 / 0.98, "slow clock": 1 / 1.02}.get(wrong, 1.0)
    check(case, found, 0.98, 0.025 if rate != 1.0 else 0.006)
    rests_high = (
        case.volts[1] > case.volts[0] if wrong not in ("jitter", "fast clock", "slow clock", "glitches") else True
    )
    assert found[0].guess.inverted == (wrong == "exchanged" or not rests_high)


@pytest.mark.parametrize("name", CASES)
def test_a_recording_that_begins_and_ends_within_a_frame_has_the_others(name: str) -> None:
    case = CASES[name]
    length = case.line.end - case.line.start
    begin, end = case.line.start + round(0.137 * length), case.line.start + round(0.871 * length)
    low, high = np.searchsorted(case.line.edges, [begin, end])
    line = Logic(begin, end, case.line.first ^ int(low) & 1, case.line.edges[low:high])
    (found,) = read(line)
    assert found.guess.code == case.code and found.guess.rate == pytest.approx(case.rate, rel=0.006)
    good = len(found.guess.frames) - found.guess.faulty
    assert 0.6 * case.messages <= good <= 0.78 * case.messages and found.guess.faulty <= 2


@pytest.mark.parametrize("level", [0, 1])
def test_a_stuck_line_is_nothing(level: int) -> None:
    channel = probed(Channel("probe", 1, Logic(0, 10**9, level, np.zeros(0, np.int64))))
    done = decode_channels([channel], [Wanted()], Asked())
    assert not done.lines and "nobody talks" in done.said["probe"][0]
    assert f"it stays {'high' if level else 'low'} all the time" in channel.said()[0]


@pytest.mark.parametrize("seed", range(3))
def test_noise_is_no_line(seed: int) -> None:
    random = np.random.default_rng(seed)
    edges = np.cumsum(random.exponential(3_000, 20_000).astype(np.int64) + 1)
    done = decode_channels([probed(Channel("probe", 1, Logic(0, int(edges[-1]) + 1, 1, edges)))], [Wanted()], Asked())
    assert not done.lines and "cannot tell" in done.said["probe"][0]
