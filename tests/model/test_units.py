"""Lengths of time as people write them."""

from __future__ import annotations

import pytest

from keel.model.units import length_ns


@pytest.mark.parametrize(
    ("text", "ns"),
    [("10us", 1e4), ("12.5 ns", 12.5), (" 3 ms ", 3e6), ("1e-3s", 1e6), (".5µs", 500.0), ("2S", 2e9)],
)
def test_a_length_has_its_unit(text: str, ns: float) -> None:
    assert length_ns(text) == pytest.approx(ns)


@pytest.mark.parametrize("text", ["", "10", "us", "0ms", "-1us", "1.2.3us", "1 day", "1e999s", "often"])
def test_what_is_none_is_none(text: str) -> None:
    assert length_ns(text) is None
