"""Painting: lines, bars, charts, ribbons. Nothing runs over, nothing gets through."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.chart import Chart, Curve, Dots, draw_chart
from keel.app.paint.loom import loom
from keel.app.paint.palette import DARK, LIGHT
from keel.app.paint.ribbon import bytes_that_fit, kept_words, ribbon, value_lines
from keel.app.paint.strokes import bar, nice_step, shade, spark, tick_words, ticks
from keel.app.paint.table import Column, fit, grow, window
from keel.model.fields import BitField
from keel.model.identity import Form
from keel.signals.dictionary import Message, Signal

PLAIN = DARK.style("text")
RAMP = Message(
    "a",
    Form.BASE,
    0x220,
    "BowRampState",
    (
        Signal("angle", BitField(7, 12, "big"), 0.1, unit="°", found="kept"),
        Signal("lock", BitField(10, 2), role="flag", texts={1: "engaged"}),
        Signal("counter", BitField(28, 4), role="counter"),
    ),
)


def test_text_is_cut_and_aligned() -> None:
    line = Line(20, PLAIN)
    line.put(0, "abcdefgh", PLAIN, 5)
    line.put(6, "42", PLAIN, 5, right=True)
    assert line.text() == "abcd…    42         "
    line.put(15, "runs over the edge", PLAIN)
    assert line.text() == "abcd…    42    runs "


@given(st.text(max_size=60), st.integers(-5, 45), st.none() | st.integers(0, 30), st.booleans())
def test_no_text_breaks_a_line(text: str, at: int, width: int | None, right: bool) -> None:
    line = Line(40, PLAIN)
    line.put(at, text, PLAIN, width, right)
    strip = line.strip()
    assert strip.cell_length == 40
    assert not any(ord(c) < 32 or 127 <= ord(c) < 160 for segment in strip for c in segment.text)


def test_markup_is_text_like_any_other() -> None:
    line = Line(30, PLAIN)
    line.put(0, "[bold red]x[/] [link=x]", PLAIN)
    assert line.text().startswith("[bold red]x[/] [link=x]")
    assert all(segment.style is PLAIN for segment in line.strip())


def test_a_wide_character_takes_two_cells() -> None:
    line = Line(6, PLAIN)
    line.put(0, "日本語字", PLAIN)
    assert line.strip().cell_length == 6
    assert line.text() == "日本語"


def test_lines_are_laid_over_one_another() -> None:
    under, over = Line(10, PLAIN), Line(4, PLAIN)
    under.put(0, "..........", PLAIN)
    over.put(0, "abcd", PLAIN)
    under.paste(8, over)
    assert under.text() == "........ab"


@pytest.mark.parametrize(
    "share, text", [(0, "    "), (1, "████"), (0.5, "██  "), (0.25 + 1 / 32, "█▏  "), (2, "████"), (-1, "    ")]
)
def test_bars_are_exact_to_an_eighth(share: float, text: str) -> None:
    assert bar(share, 4) == text


def test_sparks_show_anything_above_nothing() -> None:
    assert spark([0, 1, 4, 8]) == " ▁▄█"
    assert spark([0, 0]) == "  "
    assert spark([1, 1], 8) == "▁▁"
    assert (shade(0), shade(0.1), shade(1)) == (" ", "░", "█")


def test_steps_are_round() -> None:
    assert [nice_step(length, 5) for length in (10, 23, 0.7, 99)] == [2, 5, 0.2, 20]
    assert ticks(0, 10, 5) == [0, 2, 4, 6, 8, 10]
    assert ticks(-3, 3, 3) == [-2, 0, 2]
    assert (tick_words(2.5, 0.5), tick_words(20, 10), tick_words(0.25, 0.05)) == ("2.5", "20", "0.25")


@given(st.floats(-1e6, 1e6), st.floats(1e-6, 1e6), st.integers(1, 20))
def test_ticks_lie_in_range_and_are_few(low: float, length: float, most: int) -> None:
    found = ticks(low, low + length, most)
    assert len(found) <= most + 1
    assert all(low - length * 1e-6 - 1e-6 <= t <= low + length * (1 + 1e-6) + 1e-6 for t in found)


def test_a_curve_goes_from_corner_to_corner() -> None:
    dots = Dots(4, 2)
    dots.plot(np.array([0.0, 1.0]), np.array([0.0, 1.0]))
    rows = dots.rows()
    assert rows[1][0] != " " and rows[0][3] != " " and rows[0][0] == " "


def test_a_chart_has_axes_numbers_and_its_curve() -> None:
    x = np.linspace(0, 10, 50)
    chart = Chart([Curve(x, x * 5, "sea")], (0, 10), (0, 50), " %", spans=[(2, 4)])
    lines = draw_chart(DARK, 60, 12, chart)
    text = "\n".join(line.text() for line in lines)
    assert "50 %" in text and "0 %" in text and "10 s" not in lines[0].text()
    assert "5 s" in lines[-1].text()
    assert any(0x2800 < ord(c) < 0x2900 for c in text)
    assert all(len(line.text()) == 60 for line in lines)
    # The span is shaded: its cells have another ground than those beside it.
    grounds = {str(s.style.bgcolor) for s in lines[0].strip() if s.style}
    assert len(grounds) == 2


@pytest.mark.parametrize("size", [(5, 3), (12, 2), (200, 60)])
def test_charts_of_any_size_do_not_break(size: tuple[int, int]) -> None:
    chart = Chart([Curve(np.array([0.0]), np.array([0.0]), "sea")], (0, 0), (0, 0))
    assert len(draw_chart(DARK, *size, chart)) == size[1]


def test_huge_numbers_that_hardly_differ_are_drawn() -> None:
    """Eight letters as a number: a margin of a fifth is lost in it."""
    text = float(int.from_bytes(b"gangway ", "little"))
    flat = Curve(np.array([0.0, 1.0]), np.array([text, text]), "sea")
    assert len(draw_chart(DARK, 60, 12, Chart([flat], (0, 1), (text - 0.2, text + 0.2)))) == 12


def test_the_ribbon_brackets_its_fields() -> None:
    lines = [line.text() for line in ribbon(DARK, 80, bytes.fromhex("1A04935E"), RAMP, b"\xff")]
    assert lines[0].split() == ["byte", "0", "1", "2", "3"]
    assert lines[1].split()[1:9] == list("00011010")
    assert "╰─ angle ──" in lines[2] and lines[2].index("╰─ angle") == 8
    # Twelve bits: byte 0 and the upper half of byte 1, one bracket.
    assert lines[2].rindex("╯", 0, 40) > 8 + 17
    assert "⚐" in lines[2] and "↻" in lines[2]


def test_a_ribbon_starts_at_any_byte() -> None:
    lines = [line.text() for line in ribbon(DARK, 8 + 34, bytes(48), None, b"", first=10)]
    assert lines[0].split() == ["byte", "10", "11"]
    assert bytes_that_fit(160) == 8 and bytes_that_fit(100) == 5


@given(st.binary(max_size=64), st.integers(10, 200), st.integers(0, 60), st.binary(max_size=64))
def test_ribbons_of_any_payload_keep_their_width(payload: bytes, width: int, first: int, fresh: bytes) -> None:
    for line in ribbon(DARK, width, payload, RAMP, fresh, first):
        assert line.strip().cell_length == width


def test_values_stand_under_the_ribbon() -> None:
    (line,) = value_lines(DARK, 100, bytes.fromhex("1A04935E"), RAMP, 2)
    assert line.text().split() == ["∿", "angle", "41.6", "°", "⚐", "lock", "engaged", "↻", "counter", "5"]
    assert kept_words(bytes.fromhex("1A04935E"), RAMP) == "angle 41.6 °"
    assert kept_words(b"", None) == ""


def test_the_loom_is_darker_where_bits_flip_more() -> None:
    shares = np.zeros((3, 16))
    shares[0, 0], shares[1, 0], shares[2, 12] = 1.0, 0.05, 1.0
    lines = loom(DARK, 30, shares, BitField(0, 8), np.array([True, False, False]), 0)
    texts = [line.text() for line in lines]
    assert texts[0].startswith("┃") and texts[0][9] == "█" and texts[1][9] in "░▒"
    assert texts[2][11 + 3] == "█"
    assert texts[3].split() == ["byte", "0", "byte", "1"]


COLUMNS = (Column("a", "a", 10), Column("b", "b", 10, drop=2), Column("c", "c", 10, drop=1), Column("d", "d", 10))


def test_columns_drop_in_the_stated_order() -> None:
    assert [c.name for c, _ in fit(COLUMNS, 44)] == ["a", "b", "c", "d"]
    assert [c.name for c, _ in fit(COLUMNS, 43)] == ["a", "c", "d"]
    assert [c.name for c, _ in fit(COLUMNS, 25)] == ["a", "d"]
    assert [(c.name, at) for c, at in grow(fit(COLUMNS, 44), "b", 5)] == [("a", 0), ("b", 11), ("c", 27), ("d", 38)]


@given(st.integers(0, 99), st.integers(0, 99), st.integers(1, 50), st.integers(1, 100))
def test_the_cursor_is_always_in_sight(cursor: int, top: int, height: int, count: int) -> None:
    cursor = min(cursor, count - 1)
    first = window(cursor, top, height, count)
    assert first <= cursor < first + height
    assert first == 0 or first + height <= count


def test_numbers_read_well() -> None:
    assert words.count(1482003) == "1 482 003"
    assert words.duration(192_400_000_000) == "00:03:12.4"
    assert words.duration(-5) == "00:00:00.0"
    assert [words.length(n) for n in (12, 4_500, 1_250_000, 1_312_000_000, 600_000_000_000)] == [
        "12 ns",
        "4.5 µs",
        "1.2 ms",
        "1.312 s",
        "10.0 min",
    ]
    assert words.percent(0.081) == "8.1 %" and words.percent(0.41) == "41 %"
    assert words.of_day(1_700_000_000_123_456_789) == "22:13:20.123456"


def test_both_palettes_have_every_colour() -> None:
    assert DARK.colours.keys() == LIGHT.colours.keys()
    assert DARK.theme().dark and not LIGHT.theme().dark
