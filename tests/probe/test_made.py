"""Channels made of others, by formulas that are written and read alike."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.errors import InputError
from keel.model.waveform import Analog, Logic
from keel.probe.made import Formula, made, parse_formula

VOLTS = Analog(0, 100.0, np.array([0, 1, 2, 3, 2, 1, 0, 1, 2, 3] * 10, np.float32))
LATE = Analog(200, 100.0, np.ones(100, np.int16), 0.5)
NAMES = st.text(st.sampled_from("aB1 −.,()[]é"), min_size=1, max_size=12).map(str.strip)


@given(st.sampled_from(["difference", "inverted", "lowpass", "threshold"]), NAMES, NAMES, st.integers(1, 9999))
def test_formulas_are_read_as_they_are_written(how: str, a: str, b: str, number: int) -> None:
    if not a or not b:
        return
    of = (a, b) if how == "difference" else (a,)
    value = {"lowpass": number * 1e3, "threshold": number / 4}.get(how, 0.0)
    formula = Formula(how, of, value)
    assert parse_formula(formula.text) == formula


@given(st.text(max_size=40))
def test_no_text_breaks_it(text: str) -> None:
    try:
        parse_formula(text)
    except InputError as error:
        assert "difference" in str(error) or "--make" in str(error)


def test_what_formulas_make() -> None:
    waves: dict[str, Logic | Analog] = {"a": VOLTS, "b": LATE, "x": Logic(0, 10, 1, np.array([5]))}
    difference = made(parse_formula("difference(a, b)"), waves)
    assert isinstance(difference, Analog) and difference.start == 200 and len(difference) == 98
    assert difference.volts(0, 3).tolist() == [1.5, 2.5, 1.5]
    inverted = made(parse_formula("inverted(a)"), waves)
    assert isinstance(inverted, Analog) and inverted.volts(0, 4).tolist() == [0, -1, -2, -3]
    turned = made(parse_formula("inverted(x)"), waves)
    assert isinstance(turned, Logic) and turned.first == 0
    cut = made(parse_formula("threshold(a, 0.5V)"), waves)
    assert isinstance(cut, Logic) and cut.first == 0 and cut.edges[0] == 50
    slow = made(parse_formula("lowpass(a, 1us)"), waves)
    assert isinstance(slow, Analog) and float(np.ptp(slow.samples[50:])) < 1.0


@pytest.mark.parametrize(
    "text",
    ["difference(a)", "difference(a, nobody)", "difference(a, x)", "lowpass(a, 5)", "threshold(a, high)", "sum(a, b)",
     "lowpass(a, 0us)", "inverted()", "difference(a, far)", "difference(a, fast)"],
)  # fmt: skip
def test_what_cannot_be_made_is_refused(text: str) -> None:
    waves: dict[str, Logic | Analog] = {
        "a": VOLTS,
        "x": Logic(0, 10, 1, np.array([5])),
        "far": Analog(10**9, 100.0, np.zeros(5)),
        "fast": Analog(0, 50.0, np.zeros(5)),
    }
    with pytest.raises(InputError):
        made(parse_formula(text), waves)
