"""What a line that was not read, or not wholly, says is worth trying."""

from __future__ import annotations

import numpy as np

from keel.lines.code import Asked
from keel.model.waveform import Analog, Channel, Logic
from keel.probe.candidates import Wanted
from keel.probe.channels import probed
from keel.probe.decoding import Decoded, decode_channels
from tests.lines.wires import uart, wave
from tests.probe.test_disturbed import CASES, sampled


def decoded(*waves: Logic | Analog, asked: Asked | None = None, code: str = "auto") -> Decoded:
    channels = [probed(Channel(f"w{number}", number, one)) for number, one in enumerate(waves, 1)]
    return decode_channels(channels, [Wanted(code)], asked or Asked())


def random_edges() -> Logic:
    edges = np.cumsum(np.random.default_rng(3).exponential(3_000, 4_000).astype(np.int64) + 1)
    return Logic(0, int(edges[-1]) + 1, 1, edges)


def advice_of(done: Decoded, name: str = "w1") -> str:
    return next((one for one in done.said.get(name, []) if one.startswith("to try")), "")


def test_a_line_without_a_code_names_polarity_and_rate() -> None:
    told = advice_of(decoded(random_edges()))
    assert "--invert" in told and "--rate N" in told and "--threshold" not in told and "--channel" not in told


def test_what_was_said_already_is_not_advised_again() -> None:
    told = advice_of(decoded(random_edges(), asked=Asked(rate=9_600, inverted=True), code="can"))
    assert "--invert" not in told and "--rate" not in told


def test_of_volts_a_threshold_is_named_and_of_several_channels_a_role() -> None:
    levels = random_edges()
    times = np.arange(0, levels.end, 400.0)
    volts = 5.0 * (levels.first ^ np.searchsorted(levels.edges, times, side="right") & 1)
    told = advice_of(decoded(Analog(0, 400.0, volts.astype(np.float32)), CASES["text"].line))
    assert "--threshold 1.5 or 3.5" in told and "--channel CHANNEL=ROLE" in told


def test_a_line_that_is_read_whole_says_nothing_of_it() -> None:
    case = CASES["can"]
    (line,) = decoded(sampled(case, case.line)).lines
    assert not any(one.startswith("to try") for one in line.guess.said)


def test_a_line_of_which_the_most_is_faulty_does() -> None:
    line = wave(uart(bytes(range(256)), 9_600, 8, "odd"))
    done = decoded(line, asked=Asked(settings={"bits": "8", "parity": "even"}), code="uart")
    assert any(one.startswith("to try") for one in done.lines[0].guess.said)
