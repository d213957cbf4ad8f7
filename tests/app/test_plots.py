"""Plots, rows and small windows of the Values, Hunt and Compare views, painted without a terminal."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.app.paint.chart import Chart, Curve, Dot, draw_chart, row_of
from keel.app.paint.palette import DARK
from keel.app.paint.plots import GUTTER, Plot, Plots, draw_plots, value_words
from keel.app.views.hunt.keeping import named_signal
from keel.app.views.values.board import COLUMNS, Row, board_line, heading
from keel.hunt.candidates import Candidate
from keel.measure.courses import Course, Envelope
from keel.model.fields import BitField
from keel.model.identity import Form
from keel.model.span import Span
from keel.signals.dictionary import Message
from keel.signals.signal import Signal, Standing
from tests.app.driving import opened

SPEED = Signal("speed", BitField(0, 8), 0.5, unit="km/h")
GEAR = Signal("gear", BitField(8, 2), texts={0: "park", 1: "drive"})
NASTY = "[red]\x1b[31mx\x07"


def envelope(signal: Signal, least: list[float], most: list[float] | None = None) -> Envelope:
    low, high = np.array(least, float), np.array(most or least, float)
    zeros = np.zeros(len(low), np.int64)
    return Envelope(signal, Span(0, 1000).edges(len(low)), low, high, low, high, zeros, zeros, zeros)


def dots_in(lines: list[str], column: int) -> list[int]:
    """Rows with a dot in a cell of the plot."""
    return [i for i, line in enumerate(lines) if "\u2800" < line[GUTTER + column] <= "\u28ff"]


def test_a_spike_of_one_column_is_drawn_to_its_top() -> None:
    values = [1.0] * 200
    plot = Plot("M.speed", SPEED, envelope(SPEED, values, [9.0 if i == 77 else 1.0 for i in range(200)]))
    lines = [line.text() for line in draw_plots(DARK, 100 + GUTTER + 1, 12, Plots([plot], [], 0, 0, True))]
    assert dots_in(lines, 77 // 2)[0] <= 2 and len(dots_in(lines, 77 // 2)) >= 8
    assert len(dots_in(lines, 20)) == 1


def test_a_value_is_held_until_the_next_and_none_before_the_first() -> None:
    values = [np.nan] * 40 + [2.0] + [np.nan] * 100 + [5.0] * 59
    plot = Plot("M.speed", SPEED, envelope(SPEED, values))
    lines = [line.text() for line in draw_plots(DARK, 100 + GUTTER + 1, 12, Plots([plot], [], 0, 0, True))]
    assert not dots_in(lines, 10) and dots_in(lines, 30) == dots_in(lines, 60) != dots_in(lines, 90)


def test_states_stand_at_the_axis_by_their_names() -> None:
    plot = Plot("M.gear", GEAR, envelope(GEAR, [0.0] * 60 + [1.0] * 60), at=[0.0, 1.0])
    text = "\n".join(line.text() for line in draw_plots(DARK, 80, 10, Plots([plot], [100, 900], 0, 0, True)))
    assert "park ┤" in text and "drive ┤" in text and "1 park" in text and "2 drive" in text


def test_signals_over_each_other_share_an_axis_only_of_one_unit() -> None:
    plots = [Plot("M.speed", SPEED, envelope(SPEED, [5.0] * 100)), Plot("M.gear", GEAR, envelope(GEAR, [1.0] * 100))]
    lines = draw_plots(DARK, 80, 14, Plots(plots, [], 0, 0, False))
    assert len(lines) == 14 and "M.speed" in lines[0].text() and "M.gear" in lines[1].text()


@given(st.integers(1, 120), st.integers(0, 30), st.integers(0, 8), st.booleans())
def test_plots_of_any_size_keep_it(width: int, height: int, count: int, stacked: bool) -> None:
    plot = Plot(
        NASTY, Signal(NASTY, BitField(0, 8), unit=NASTY), envelope(SPEED, [np.nan, 1.0, 3.0]), [(500, 9.0)], [None]
    )
    lines = draw_plots(DARK, width, height, Plots([plot] * count, [10, 5000], 1, 0, stacked))
    assert len(lines) == height or height < 5
    assert all(line.strip().cell_length == max(width, 0) and "\x1b" not in line.text() for line in lines)


@given(st.floats(0, 1), st.integers(1, 60))
def test_a_dot_lies_in_the_row_that_the_curve_goes_through(share: float, height: int) -> None:
    assert 0 <= row_of(share, height) < height
    assert row_of(1.0, height) == 0 and row_of(0.0, height) == height - 1


def test_points_are_drawn_over_the_curve() -> None:
    x = np.linspace(0, 10, 50)
    lines = draw_chart(
        DARK, 60, 12, Chart([Curve(x, x, "sea")], (0, 10), (0, 10), dots=[Dot(5.0, 5.0), Dot(99.0, 5.0)])
    )
    assert sum(line.text().count("●") for line in lines) == 1


def course(standing: Standing, seen: int | None = 5) -> Course:
    now = 3.5 if standing == Standing.VALUE else None
    return Course(now, 7, standing, seen, 1.0, 2.0, 3.5, 10, 2, 1, np.array([1.0, np.nan, 2.0]))


@pytest.mark.parametrize(
    "shown, words",
    [
        (course(Standing.VALUE), "3.5 km/h"),
        (course(Standing.NOT_AVAILABLE), "not available"),
        (course(Standing.ERROR), "✕ error"),
        (course(Standing.VALUE, None), "silent"),
        (None, "…"),
    ],
)
async def test_the_board_tells_what_a_signal_says(shown: Course | None, words: str, plain: Path) -> None:
    message = Message("a", Form.BASE, 1, "M", (SPEED,))
    row = Row("M.speed", (1, "speed"), message, SPEED)
    async with opened(plain) as (app, _):
        line = board_line(app.here, row, shown, 0, True, False, (3.0, 3.5)).text()
        assert words in line and "3.0, +0.5" in line
        narrow, least = (replace(app.here, width=width) for width in (60, 10))
        assert len(heading(narrow).text()) == 60 and COLUMNS[2].title not in heading(least).text()


def test_a_value_is_named_by_its_text() -> None:
    assert value_words(GEAR, 1.0) == "drive" and value_words(GEAR, 2.0) == "2" and value_words(SPEED, None) == "—"


@pytest.mark.parametrize(
    "text, name, unit, texts",
    [
        ("ramp angle, °", "ramp_angle", "°", {}),
        ("gear 0=park 1=drive", "gear", "", {0: "park", 1: "drive"}),
        ('lock 0="not locked" 1=locked, state', "lock", "state", {0: "not locked", 1: "locked"}),
        ("speed", "speed", "", {}),
        (", V", "signal", "V", {}),
        ("way -1=port 1=starboard", "way", "", {-1: "port", 1: "starboard"}),
    ],
)
def test_a_signal_is_named_in_one_line(text: str, name: str, unit: str, texts: dict[int, str]) -> None:
    candidate = Candidate(1, BitField(7, 12, "big"), 9.0, "fits", page=3, scale=0.1, offset=-40.0)
    made = named_signal(text, candidate)
    assert (made.name, made.unit, made.texts, made.scale, made.offset) == (name, unit, texts, 0.1, -40.0)
    assert made.pages == ((3, 3),) and "fits" in made.found
