"""Levels of lines that rest nearly all the time, and of such as have none."""

from __future__ import annotations

import numpy as np
import pytest

from keel.lines.levels import levels_of, logic_of
from keel.model.waveform import Analog
from tests.lines.waves import volts
from tests.lines.wires import uart, wave

RESTING = wave([*uart(b"\x55\x0f" * 4, 100_000, rest=30.0), (1, 4e8)])


@pytest.mark.parametrize("noise", [0.0, 0.01])
def test_a_line_that_speaks_for_a_thousandth_of_the_time_has_levels(noise: float) -> None:
    samples = volts(RESTING, 1_000.0, 0.2, 3.1, 300.0, noise)
    found = levels_of(wave_of(samples))
    assert found.swing and found.low == pytest.approx(0.2, abs=0.15) and found.high == pytest.approx(3.1, abs=0.1)
    assert len(logic_of(wave_of(samples), found).edges) == len(RESTING.edges)


def test_spikes_and_noise_alone_are_no_levels() -> None:
    random = np.random.default_rng(4)
    still = random.normal(3.1, 0.01, 400_000)
    assert not levels_of(wave_of(still)).swing
    spiky = still.copy()
    spiky[random.integers(0, len(spiky), 400)] = 0.2
    assert not levels_of(wave_of(spiky)).swing


def wave_of(samples: np.ndarray) -> Analog:
    return Analog(0, 1_000.0, samples.astype(np.float32))
