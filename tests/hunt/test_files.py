"""Evidence is read from lines of numbers; what is no number is named with its line."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.errors import InputError
from keel.hunt.files import read_points, read_spans
from keel.model.span import Span


def test_spans_are_read_from_lines(tmp_path: Path) -> None:
    path = tmp_path / "m.csv"
    path.write_text("# pressed\n1.5, 2.25\n\n10;11 # again\n")
    assert read_spans(path, 1000) == [Span(1_500_001_000, 2_250_001_000), Span(10_000_001_000, 11_000_001_000)]


@pytest.mark.parametrize("text", ["1.5", "a,b", "5,4", "1,nan", "1,", "1,99999999999"])
def test_bad_lines_of_spans_are_named(tmp_path: Path, text: str) -> None:
    path = tmp_path / "m.csv"
    path.write_text("0,1\n" + text + "\n")
    with pytest.raises(InputError, match="line 2"):
        read_spans(path, 0)


def test_points_come_in_order_of_time_whatever_the_clock(tmp_path: Path) -> None:
    path = tmp_path / "r.csv"
    path.write_text("time,value\n3.5,-2\n1,7.25\n1700000000.5 9\n")
    points = read_points(path, 10)
    assert points.times.tolist() == [1_000_000_010, 3_500_000_010, 1_700_000_000_500_000_000]
    assert points.values.tolist() == [7.25, -2.0, 9.0]


def test_times_beyond_any_clock_are_refused(tmp_path: Path) -> None:
    path = tmp_path / "r.csv"
    path.write_text("1,2\n1767225600029245849,3\n")
    with pytest.raises(InputError, match="line 2"):
        read_points(path, 0)


@given(st.text(max_size=60))
def test_any_text_is_read_or_refused(tmp_path_factory: pytest.TempPathFactory, text: str) -> None:
    path = tmp_path_factory.mktemp("any") / "x.csv"
    path.write_text(text, encoding="utf-8", newline="")
    try:
        points = read_points(path, 0)
    except InputError as error:
        assert str(path) in str(error)
    else:
        assert len(points.times) == len(points.values)
