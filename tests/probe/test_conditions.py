"""Raw conditions on a channel: hand-worked pulses, silences and runts."""

from __future__ import annotations

import numpy as np
import pytest

from keel.errors import InputError
from keel.model.waveform import Analog, Logic
from keel.probe.conditions import Condition, find, parse_condition

EDGES = np.array([100, 200, 205, 400, 1_400, 1_500], np.int64)
LINE = Logic(0, 2_000, 0, EDGES)
"""High 100 to 200, low for 5, high to 400, low for 1000, high to 1500."""


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("pulse<10ns", [(200, 205)]),
        ("gap>500ns", [(400, 1_400)]),
        ("high<150ns", [(100, 200), (1_400, 1_500)]),
        ("low<1us", [(200, 205)]),
        ("High > 0.15 us", [(205, 400)]),
    ],
)
def test_each_time_that_it_is_met_is_found(text: str, expected: list[tuple[int, int]]) -> None:
    found = find(LINE, parse_condition(text))
    assert list(zip(found.starts.tolist(), found.ends.tolist(), strict=True)) == expected


def test_what_an_unknown_stretch_cuts_is_no_pulse() -> None:
    line = Logic(0, 2_000, 0, EDGES, ((300, 350),))
    assert find(line, parse_condition("high>100ns")).starts.tolist() == []


def test_runts_are_found_from_either_level() -> None:
    volts = np.zeros(1_000, np.float32)
    for start in range(100, 900, 100):
        volts[start : start + 50] = 5.0
    volts[205:210] = 2.6
    # One that leaves the low level and comes half of the way, one the other way round.
    volts[260:270] = 2.4
    volts[320:330] = 2.5
    found = find(Analog(0, 10.0, volts), Condition("runt"))
    spans = list(zip(found.starts.tolist(), found.ends.tolist(), strict=True))
    assert (2_600, 2_700) in spans and (3_200, 3_300) in spans and (2_050, 2_100) in spans and len(spans) == 3


@pytest.mark.parametrize("text", ["", "pulse", "pulse<", "pulse<2", "pulse=2us", "runts", "pulse<0us", "pulse<1.2.3us"])
def test_what_is_no_condition_is_refused(text: str) -> None:
    with pytest.raises(InputError):
        parse_condition(text)


def test_levels_have_no_runts() -> None:
    with pytest.raises(InputError, match="levels alone"):
        find(LINE, Condition("runt"))
