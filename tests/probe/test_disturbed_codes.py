"""Every line code under every disturbance: what comes of it, of a sender that knows nothing of the decoder.

A disturbance may cost frames, but no more than its share; it may make faults; it never makes another code, another
rate, or a frame that nobody sent and that has no fault.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import pytest

from keel.lines.code import Asked
from keel.model.frames import FrameBatch
from keel.model.waveform import Analog, Channel, Logic
from keel.probe.candidates import Wanted
from keel.probe.channels import probed
from keel.probe.decoding import decode_channels
from keel.probe.lines import Line
from tests.lines.chips import card, i2c, spi
from tests.lines.test_card import TALK as CARD
from tests.lines.test_i2c import SENT as I2C
from tests.lines.test_kline import TALK as DIAGNOSTICS
from tests.lines.test_kline import talk
from tests.lines.test_lin import Said, lin
from tests.lines.test_manchester import SAID, burst
from tests.lines.test_sent import counting, sent
from tests.lines.test_spi import talk as words
from tests.lines.wires import Level, shaken, uart, wave
from tests.probe.test_disturbed import ringing, rounded

RANDOM = np.random.default_rng(11)
TEXT = b"".join(b"$SDDPT,%d.%d,0.4*%02X\r\n" % (n % 40, n % 10, n % 251) for n in range(30))
BYTES = bytes(RANDOM.integers(0, 256, 1_200).tolist())


def manchester() -> list[Level]:
    levels: list[Level] = [(0, 50_000.0)]
    for data in SAID * 6:
        levels += burst(data)
    return levels


@dataclass(frozen=True)
class Case:
    """A line of one wire: its levels, the code it is in, the length of its shortest pulse, how it rests."""

    line: Logic
    code: str
    bit_ns: float


LIN_SAID = [Said(n % 60, bytes([n, n ^ 0x5A, 7 * n & 0xFF])) for n in range(24)]
CASES = {
    "lin": Case(wave(lin(LIN_SAID, 19_200)), "lin", 1e9 / 19_200),
    "kline": Case(wave(talk(DIAGNOSTICS * 2)), "kline", 1e9 / 10_400),
    "sent": Case(wave(sent(counting(60))), "sent", 3_000.0),
    "sent, paused": Case(wave(sent(counting(60), total=400)), "sent", 3_000.0),
    "manchester": Case(wave(manchester()), "manchester", 500.0),
    "text": Case(wave(uart(TEXT, 38_400)), "uart", 1e9 / 38_400),
    "8E1": Case(wave(uart(BYTES, 57_600, 8, "even", pauses=([30.0] + [0.0] * 11) * 100)), "uart", 1e9 / 57_600),
    "8N2": Case(wave(uart(BYTES, 9_600, 8, "none", 2.0, pauses=([30.0] + [0.0] * 11) * 100)), "uart", 1e9 / 9_600),
}


def sampled(case: Case, per_bit: float, high: float = 5.0) -> Analog:
    step = case.bit_ns / per_bit
    times = np.arange(case.line.start, case.line.end, step)
    levels = case.line.first ^ (np.searchsorted(case.line.edges, times, side="right") & 1)
    return Analog(case.line.start, step, (high * levels).astype(np.float32))


def with_volts(wave_of: Analog, volts: np.ndarray) -> Analog:
    return Analog(wave_of.start, wave_of.step, volts.astype(np.float32))


def noise(count: int, share: float, seed: int = 1) -> np.ndarray:
    return np.random.default_rng(seed).normal(0, share * 5.0, count)


def noise_before_a_filter(case: Case) -> Analog:
    """White noise that a filter of a third of a bit makes slow: it no longer differs from sample to sample."""
    clean = sampled(case, 20)
    return with_volts(clean, rounded(clean.samples + noise(len(clean), 0.12), 3.0))


def unknown(case: Case) -> Logic:
    """Levels that are not known for two bits, eight times."""
    line = case.line
    begins = np.linspace(line.start, line.end, 10)[1:-1].astype(np.int64)
    spans = tuple((int(begin), int(begin + 2 * case.bit_ns)) for begin in begins)
    kept = np.ones(len(line.edges), np.bool_)
    edges = line.edges.copy()
    for low, high in spans:
        inside = np.flatnonzero((edges > low) & (edges < high))
        kept[inside] = False
        if len(inside) % 2:
            # It has changed meanwhile: that shows behind the stretch.
            kept[inside[-1]] = True
            edges[inside[-1]] = high
    return Logic(line.start, line.end, line.first, edges[kept], spans)


def cut(case: Case, begin: float, end: float) -> Logic:
    line, length = case.line, case.line.end - case.line.start
    first, last = line.start + round(begin * length), line.start + round(end * length)
    low, high = np.searchsorted(line.edges, [first, last])
    return Logic(first, last, line.first ^ int(low) & 1, line.edges[low:high])


def off(case: Case, share: float) -> Logic:
    line = case.line
    edges = np.rint(line.edges * (1 + share)).astype(np.int64)
    return Logic(line.start, round(line.end * (1 + share)), line.first, edges)


def drifting(case: Case, share: float) -> Logic:
    """A clock that slowly gets slower, by such a share from begin to end."""
    line = case.line
    stretch = 1 + share * line.edges / max(line.end, 1) / 2
    edges = np.rint(line.edges * stretch).astype(np.int64)
    return Logic(line.start, round(line.end * (1 + share / 2)), line.first, edges)


@dataclass(frozen=True)
class Disturbance:
    """What is done to a line, which share of its frames is read all the same, and how far its rate may seem off."""

    done: Callable[[Case], Logic | Analog]
    least: float = 1.0
    off: float = 0.01


DISTURBED = {
    "jitter": Disturbance(lambda case: shaken(case.line, 0.02 * case.bit_ns)),
    "a fast clock": Disturbance(lambda case: off(case, -0.015), 1.0, 0.025),
    "a slow clock": Disturbance(lambda case: off(case, 0.015), 1.0, 0.025),
    "drift of a clock": Disturbance(lambda case: drifting(case, 0.01), 1.0, 0.02),
    "exchanged": Disturbance(lambda case: case.line.inverted),
    "noise": Disturbance(lambda case: with_volts(one := sampled(case, 20), one.samples + noise(len(one), 0.04))),
    "noise, loud": Disturbance(
        lambda case: with_volts(one := sampled(case, 20), one.samples + noise(len(one), 0.1)), 0.9
    ),
    "noise before a filter": Disturbance(noise_before_a_filter, 0.9),
    "rounded": Disturbance(lambda case: with_volts(one := sampled(case, 20), rounded(one.samples, 5.0))),
    "ringing": Disturbance(lambda case: with_volts(one := sampled(case, 30), ringing(one.samples, 5.0, 1.0)), 0.98),
    "drift of levels": Disturbance(
        lambda case: with_volts(one := sampled(case, 14), one.samples + np.linspace(0, 2.0, len(one)))
    ),
    "coarse": Disturbance(lambda case: sampled(case, 4.3), 0.95, 0.02),
    "cut": Disturbance(lambda case: cut(case, 0.137, 0.871), 0.65),
    "unknown": Disturbance(unknown, 0.6),
}


def lines_in(wave_of: Logic | Analog) -> list[Line]:
    return decode_channels([probed(Channel("probe", 1, wave_of))], [Wanted()], Asked()).lines


def payloads(frames: FrameBatch) -> list[bytes]:
    good = np.flatnonzero(frames.is_good(slice(None)))
    return [frames.payload(row) for row in good.tolist()]


def check(case: Case, wanted: Disturbance) -> None:
    (reference,) = lines_in(case.line)
    assert reference.guess.code == case.code
    sent_by_it = payloads(reference.guess.frames)
    (found,) = lines_in(wanted.done(case))
    assert found.guess.code == case.code
    assert found.guess.rate == pytest.approx(reference.guess.rate, rel=wanted.off)
    read = payloads(found.guess.frames)
    assert len(read) >= wanted.least * len(sent_by_it)
    # Nothing was read that was not sent, but for what both ends or a stretch that is not known cut off a message.
    known = b"\0".join(sent_by_it)
    assert all(one in known for one in read)


SOME = [("lin", "noise"), ("kline", "coarse"), ("sent", "ringing"), ("manchester", "jitter"), ("8E1", "cut"),
        ("8N2", "noise before a filter"), ("sent, paused", "a slow clock"), ("text", "unknown")]  # fmt: skip
"""Looked at each time; all the others take longer."""


@pytest.mark.parametrize(("name", "wrong"), SOME)
def test_some_codes_under_some_disturbances(name: str, wrong: str) -> None:
    check(CASES[name], DISTURBED[wrong])


@pytest.mark.soak
@pytest.mark.parametrize("wrong", DISTURBED)
@pytest.mark.parametrize("name", CASES)
def test_every_code_under_every_disturbance(name: str, wrong: str) -> None:
    check(CASES[name], DISTURBED[wrong])


@pytest.mark.parametrize("gap", [0.0, 0.3, 0.5, 0.7, 1.3, 3.4, None])
@pytest.mark.parametrize("framing", [("none", 1.0), ("even", 1.0), ("none", 2.0)])
def test_bytes_are_read_whatever_lies_between_them(gap: float | None, framing: tuple[str, float]) -> None:
    """A gap of any fraction of a bit, or all of them mixed."""
    parity, stop = framing
    gaps = [gap] * len(BYTES) if gap is not None else RANDOM.choice([0.0, 0.3, 0.5, 0.7, 1.3, 3.4], len(BYTES)).tolist()
    line = wave(uart(BYTES, 31_250, 8, parity, stop, pauses=[40.0, *gaps[1:]]))
    (found,) = lines_in(line)
    assert found.guess.code == "uart" and found.guess.rate == pytest.approx(31_250, rel=0.003)
    assert (found.guess.settings["bits"], found.guess.settings["parity"]) == (8, parity)
    assert b"".join(payloads(found.guess.frames)) == BYTES and not found.guess.faulty


@pytest.mark.parametrize("one_in", [100, 500, 1_200])
def test_a_wrong_parity_bit_is_a_fault_and_no_other_code(one_in: int) -> None:
    count = 1_200
    data = bytes(np.random.default_rng(one_in).integers(0, 256, count).tolist())
    wrong = set(range(one_in // 2, count, one_in))
    parts: list[Level] = []
    for place, byte in enumerate(data):
        # A parity bit that is wrong: the same byte, sent with the other parity.
        parity = "odd" if place in wrong else "even"
        parts += uart(bytes([byte]), 38_400, 8, parity, rest=20.0 if place % 16 == 0 else 0.0)[:-1]
    (found,) = lines_in(wave([*parts, (1, 40 * 1e9 / 38_400)]))
    settings = found.guess.settings
    assert (settings["bits"], settings["parity"]) == (8, "even")
    assert 0 < found.guess.faulty <= len(wrong)


# Lines of several wires.

CLOCKED: dict[str, tuple[Callable[[], dict[str, Logic]], str]] = {
    "spi": (lambda: spi(words()), "spi"),
    "i2c": (lambda: i2c(I2C), "i2c"),
    "card": (lambda: card(CARD * 2), "card"),
}
ON_WIRES: dict[str, Callable[[Logic, float], Logic | Analog]] = {
    "jitter": lambda line, unit: shaken(line, 0.01 * unit),
    "noise": lambda line, unit: _noisy(line, unit, 16),
    "rounded": lambda line, unit: _rounded(line, unit),
    "coarse": lambda line, unit: _noisy(line, unit, 9),
}


def _volts(line: Logic, unit: float, per_unit: float) -> Analog:
    times = np.arange(line.start, line.end, unit / per_unit)
    levels = line.first ^ (np.searchsorted(line.edges, times, side="right") & 1)
    return Analog(line.start, unit / per_unit, (3.3 * levels).astype(np.float32))


def _noisy(line: Logic, unit: float, per_unit: float) -> Analog:
    clean = _volts(line, unit, per_unit)
    return with_volts(clean, clean.samples + noise(len(clean), 0.02))


def _rounded(line: Logic, unit: float) -> Analog:
    clean = _volts(line, unit, 30)
    return with_volts(clean, rounded(clean.samples, 2.0))


@pytest.mark.soak
@pytest.mark.parametrize("wrong", ON_WIRES)
@pytest.mark.parametrize("name", CLOCKED)
def test_lines_that_go_by_a_clock_under_every_disturbance(name: str, wrong: str) -> None:
    made, code = CLOCKED[name]
    wires = made()
    shortest = min(float(np.diff(one.edges).min()) for one in wires.values() if len(one.edges) > 1)
    reference = decode_channels([probed(Channel(n, k, w)) for k, (n, w) in enumerate(wires.items(), 1)],
                                [Wanted()], Asked()).lines  # fmt: skip
    disturbed = {n: ON_WIRES[wrong](one, shortest) for n, one in wires.items()}
    found = decode_channels([probed(Channel(n, k, w)) for k, (n, w) in enumerate(disturbed.items(), 1)],
                            [Wanted()], Asked()).lines  # fmt: skip
    assert [one.guess.code for one in found] == [code] == [one.guess.code for one in reference]
    assert payloads(found[0].guess.frames) == payloads(reference[0].guess.frames)
