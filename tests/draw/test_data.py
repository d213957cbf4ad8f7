"""What is drawn is what was measured: every drawing is taken apart into its data again."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from matplotlib.colors import to_hex
from matplotlib.figure import Figure
from matplotlib.image import AxesImage
from matplotlib.patches import StepPatch

from keel.compare.differences import compare
from keel.compare.sides import Side, together
from keel.draw import charts, fields
from keel.draw import comparison_charts as sides
from keel.draw.sheet import BRASS, CORAL, SEA, SLATE
from keel.hunt.measurements import Points
from keel.measure.courses import Courses
from keel.measure.cycles import describe
from keel.measure.load import Loads, Series
from keel.model.bus import Bus
from keel.model.faults import Fault
from keel.model.fields import BitField
from keel.model.frames import Flag
from keel.model.identity import Form, pack_key
from keel.model.span import Mark, Span
from keel.model.units import NS_PER_S
from keel.signals.dictionary import Dictionary, Message
from keel.signals.signal import Signal
from tests.making import BUSES, START, Row, batch, find, recorded

SECOND = NS_PER_S


@pytest.fixture
def sheets(monkeypatch: pytest.MonkeyPatch) -> list[Any]:
    """The figures that would have been saved."""
    kept: list[Any] = []

    def keep(figure: Figure, path: Path) -> None:
        figure.canvas.draw()
        kept.append(figure)

    monkeypatch.setattr(charts, "save", keep)
    monkeypatch.setattr(fields, "save", keep)
    return kept


def said(axes: Any) -> list[str]:
    """The texts on some axes, without those of the scales."""
    return [text.get_text() for text in axes.texts]


def curve(axes: Any, label: str) -> StepPatch:
    (found,) = [p for p in axes.patches if isinstance(p, StepPatch) and p.get_label() == label]
    return found


def test_the_load_of_each_bus_stands_over_its_time_in_percent(sheets: list[Any]) -> None:
    load = np.array([[0.1, 0.2, 0.0, 0.4], [0.05, 0.05, 0.9, 0.0]])
    span = Span(START + 2 * SECOND, START + 10 * SECOND)
    series = Series(span, load * 1000, load, np.array([0.0, 3.0, 0.0, 1.0]))
    marks = [Mark(1, START + 3 * SECOND), Mark(2, START + SECOND), Mark(3, START + 10 * SECOND)]
    charts.draw_load(Path("x.svg"), "morning", series, BUSES, marks, START)
    (axes,) = sheets[0].axes
    for index, bus in enumerate(BUSES):
        values, edges, _ = curve(axes, f"bus {bus.name}").get_data()
        assert values == pytest.approx(load[index] * 100)
        assert edges == pytest.approx([2, 4, 6, 8, 10])
    # Nothing is cut off at the top, and faults stand over the cells that have them.
    assert axes.get_ylim()[0] == 0 and axes.get_ylim()[1] > 90
    (ticks,) = [c for c in axes.collections if c.get_label() == "faults"]
    assert [segment[0][0] for segment in ticks.get_segments()] == pytest.approx([5.0, 9.0])
    assert to_hex(ticks.get_color()[0]) == CORAL
    # Of the marks only the one that lies in the span.
    assert [text.strip() for text in said(axes)] == ["1"]
    assert [line.get_xdata()[0] for line in axes.lines] == pytest.approx([3.0])


def test_buses_have_their_colours_in_order(sheets: list[Any]) -> None:
    half = np.full((2, 1), 0.5)
    series = Series(Span(START, START + SECOND), half, half, np.zeros(1))
    charts.draw_load(Path("x.svg"), "colours", series, BUSES, [], START)
    (axes,) = sheets[0].axes
    assert [to_hex(curve(axes, f"bus {bus.name}").get_edgecolor()) for bus in BUSES] == [SEA, SLATE]
    assert not [c for c in axes.collections if c.get_label() == "faults"]


def test_a_measured_load_is_drawn_to_the_bit(tmp_path: Path, sheets: list[Any]) -> None:
    found = batch([Row(START + i * 10_000_000, 0x100, bytes(8)) for i in range(200)])
    snapshot = recorded(tmp_path / "r.keel", found)
    span = Span(START, START + 2 * SECOND)
    charts.draw_load(Path("x.svg"), "t", Loads().series(find(snapshot), span, 4), BUSES, [], START)
    values, _, _ = curve(sheets[0].axes[0], "bus a").get_data()
    # 50 frames in each half second, so many bits each, at 500 kbit/s, in percent.
    assert values == pytest.approx([100 * 50 * int(found.bits[0]) / 0.5 / 500_000] * 4)


def test_cycles_are_counted_in_milliseconds_about_the_usual(sheets: list[Any]) -> None:
    times = START + np.cumsum([0, *([10_000_000] * 60), 35_000_000, *([10_000_000] * 20)]).astype(np.int64)
    cycle = describe(0x0A4, times, int(times[-1]), 20)
    charts.draw_cycles(Path("x.svg"), "cycles", [("HelmCommand", 0, cycle), ("another", 1, cycle)])
    first, second = sheets[0].axes[:2]
    for axes, name, colour in ((first, "HelmCommand", SEA), (second, "another", SLATE)):
        (stairs,) = [p for p in axes.patches if isinstance(p, StepPatch)]
        values, edges, _ = stairs.get_data()
        assert int(values.sum()) == int(np.sum(cycle.counts)) > 0
        assert (edges[0], edges[-1]) == pytest.approx((cycle.low / 1e6, cycle.high / 1e6))
        assert axes.lines[0].get_xdata()[0] == pytest.approx(10.0, abs=0.02)
        assert axes.get_title(loc="left").startswith(f"{name}: 10.0") and "longest 35.0" in axes.get_xlabel()
        assert to_hex(stairs.get_facecolor()) == colour


@pytest.mark.parametrize("count, grid", [(1, (1, 1)), (2, (1, 2)), (4, (2, 2)), (5, (2, 3)), (7, (3, 3))])
def test_many_cycles_share_a_sheet_and_empty_places_stay_empty(
    sheets: list[Any], count: int, grid: tuple[int, int]
) -> None:
    times = START + np.arange(10, dtype=np.int64) * 10_000_000
    cycle = describe(1, times, int(times[-1]), 8)
    charts.draw_cycles(Path("x.svg"), "many", [(f"n{i}", i, cycle) for i in range(count)])
    axes = sheets[0].axes
    assert len(axes) == grid[0] * grid[1]
    assert [a.axison for a in axes] == [True] * count + [False] * (len(axes) - count)


def test_a_candidate_its_spans_and_what_was_read(sheets: list[Any]) -> None:
    times = START + np.arange(5, dtype=np.int64) * SECOND
    values = np.array([0, 0, 7, 7, 0])
    spans = [Span(START + 2 * SECOND, START + 4 * SECOND)]
    read = Points(times[1:3] + SECOND // 2, np.array([0.5, 6.5]))
    window = Span(START, START + 5 * SECOND)
    charts.draw_candidate(Path("x.svg"), "ramp", "moves there", times, values, spans, window, START, read)
    (axes,) = sheets[0].axes
    line, dots = axes.lines
    assert list(line.get_xdata()) == [0, 1, 2, 3, 4] and list(line.get_ydata()) == [0, 0, 7, 7, 0]
    assert line.get_drawstyle() == "steps-post"
    assert list(dots.get_xdata()) == [1.5, 2.5] and list(dots.get_ydata()) == [0.5, 6.5]
    (shade,) = axes.patches
    assert (shade.get_x(), shade.get_width()) == (2.0, 2.0)
    assert axes.get_xlim() == (0.0, 5.0) and axes.get_ylabel() == "value" and "moves there" in said(axes)


def test_a_candidate_without_readings_is_raw(sheets: list[Any]) -> None:
    times = START + np.arange(3, dtype=np.int64) * SECOND
    charts.draw_candidate(
        Path("x.svg"), "t", "w", times, np.array([1, 2, 3]), [], Span(START, START + 3 * SECOND), START
    )
    (axes,) = sheets[0].axes
    assert len(axes.lines) == 1 and axes.get_ylabel() == "raw value" and axes.get_xlabel() == "seconds"


TEMPERATURE = Signal("temp", BitField(0, 8), scale=0.5, offset=-40.0, unit="°C", absent=((255, 255),))
GEAR = Signal("gear", BitField(8, 2), texts={0: "park", 1: "drive"})
PUMP = Message("a", Form.BASE, 0x100, "Pump", (TEMPERATURE, GEAR))
BOOK = Dictionary((PUMP,))


def test_values_are_physical_and_what_is_none_leaves_a_gap(tmp_path: Path, sheets: list[Any]) -> None:
    raw = [80, 100, 255, 120]
    rows = [Row(START + i * SECOND, 0x100, bytes([value, i % 2])) for i, value in enumerate(raw)]
    snapshot = recorded(tmp_path / "r.keel", batch(rows), dictionary=BOOK)
    key = pack_key(0, Form.BASE, 0x100)
    span = Span(START, START + 4 * SECOND)
    courses = Courses()
    envelopes = [(s.name, courses.envelope(find(snapshot), key, PUMP, s, span, 4)) for s in (TEMPERATURE, GEAR)]
    fields.draw_values(Path("x.svg"), "values", envelopes, START, (START + SECOND, START + 3 * SECOND))
    temp, gear = sheets[0].axes
    line = temp.lines[0]
    # 0.5 × raw − 40; the third is "not available" and is not drawn.
    assert list(line.get_xdata()) == [0, 1, 3] and list(line.get_ydata()) == [0.0, 10.0, 20.0]
    assert temp.get_ylabel() == "°C" and temp.get_title(loc="left") == "temp"
    assert [label.get_text() for label in gear.get_yticklabels()] == ["park", "drive"]
    assert [t.strip() for t in said(temp)] == ["A", "B"]
    assert [line.get_xdata()[0] for line in temp.lines[1:]] == [1.0, 3.0]
    assert gear.get_xlim() == (0.0, 4.0)


def test_the_loom_has_each_bit_in_its_place(sheets: list[Any]) -> None:
    shares = np.zeros((3, 16))
    # Bit 0, the least significant of byte 0, is the rightmost of the first eight; bit 15 the leftmost of the second.
    shares[1, 0], shares[2, 15] = 1.0, 0.5
    edges = START + np.arange(4, dtype=np.int64) * SECOND
    known = [("low", BitField(0, 1), "flag"), ("high", BitField(12, 4), "value")]
    fields.draw_loom(Path("x.svg"), "loom", shares, edges, START, known)
    (axes,) = sheets[0].axes
    (image,) = [child for child in axes.get_children() if isinstance(child, AxesImage)]
    drawn = np.asarray(image.get_array())
    assert drawn.shape == (3, 16)
    assert drawn[1, 7] == 1.0 and drawn[2, 8] == 0.5 and np.count_nonzero(drawn) == 2
    assert list(image.get_extent()) == [0, 16, 3.0, 0.0]
    assert [label.get_text() for label in axes.get_xticklabels()] == ["byte 0", "byte 1", ""]
    assert said(axes) == ["low", "high"]
    # The brackets: over bit 0 at the right of byte 0, and over bits 15 to 12 at the left of byte 1.
    brackets = [tuple(line.get_xdata()) for line in axes.lines if len(set(line.get_xdata())) == 2]
    assert brackets == [pytest.approx((7.1, 7.9)), pytest.approx((8.1, 11.9))]
    colours = [to_hex(line.get_color()) for line in axes.lines if len(set(line.get_xdata())) == 2]
    assert colours == [BRASS, SEA]


def test_the_ribbon_spells_the_payload_bit_by_bit(sheets: list[Any]) -> None:
    payload = bytes([0xA5, 0x01])
    fields.draw_ribbon(Path("x.svg"), "ribbon", payload, [("word", BitField(7, 16, "big"), "value")])
    (axes,) = sheets[0].axes
    spelled = said(axes)
    assert "0: A5" in spelled and "1: 01" in spelled
    assert "".join(t for t in spelled if t in ("0", "1")) == "1010010100000001"
    assert "word" in spelled


def test_a_long_ribbon_goes_on_in_further_rows(sheets: list[Any]) -> None:
    payload = bytes(range(20))
    fields.draw_ribbon(Path("x.svg"), "long", payload, [("last", BitField(19 * 8, 8), "value")])
    assert len(sheets[0].axes) == 3
    assert ["last" in said(axes) for axes in sheets[0].axes] == [False, False, True]
    spelled = "".join(t for axes in sheets[0].axes for t in said(axes) if t in ("0", "1"))
    assert spelled == "".join(f"{byte:08b}" for byte in payload)


def test_fields_over_each_other_stand_on_further_levels(sheets: list[Any]) -> None:
    over = [("a", BitField(0, 8), "value"), ("b", BitField(4, 8), "value"), ("c", BitField(8, 4), "value")]
    fields.draw_ribbon(Path("x.svg"), "levels", bytes(2), over)
    (axes,) = sheets[0].axes
    levels = {text.get_text(): text.get_position()[1] for text in axes.texts if text.get_text() in "abc"}
    assert levels["a"] == levels["c"] > levels["b"]


def compared(tmp_path: Path) -> Any:
    good = [Row(START + i * 100_000_000, 0x100, bytes([80, 0])) for i in range(100)]
    bad = [Row(START + i * 100_000_000, 0x100, bytes([80 + (i >= 50) * 20, 0])) for i in range(100)]
    a = recorded(tmp_path / "a.keel", batch(good), dictionary=BOOK)
    b = recorded(tmp_path / "b.keel", batch(bad), dictionary=BOOK)
    return compare(together(Side.of(a, ""), Side.of(b, ""), "start", {}))


def test_a_comparison_draws_both_sides_in_the_time_of_the_first(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    figures: list[Any] = []

    def keep(figure: Figure) -> str:
        figures.append(figure)
        return "<svg/>"

    monkeypatch.setattr(sides, "_svg", keep)
    made = sides.drawings_of(compared(tmp_path))
    assert [title for title, _ in made] == ["Load, in the time of this side", "Pump.temp"]
    loads, temp = figures
    assert [axes.get_title(loc="left") for axes in loads.axes] == ["bus a", "bus b"]
    by_label = {line.get_label(): line for line in temp.axes[0].lines}
    assert set(by_label) == {"this", "other"}
    assert set(by_label["this"].get_ydata()) == {0.0}
    x, y = np.asarray(by_label["other"].get_xdata()), np.asarray(by_label["other"].get_ydata())
    assert set(y[x < 4.9]) == {0.0} and set(y[x > 5.1]) == {10.0}
    assert temp.axes[0].get_ylabel() == "°C"


def test_faulty_and_remote_frames_load_the_line_too(tmp_path: Path, sheets: list[Any]) -> None:
    rows = [Row(START, 0x100, bytes(8)), Row(START + SECOND, 0x100, flags=int(Flag.REMOTE))]
    rows.append(Row(START + 2 * SECOND, 0x100, bytes(8), faults=int(Fault.CRC), flags=int(Flag.ERROR)))
    snapshot = recorded(tmp_path / "r.keel", batch(rows))
    series = Loads().series(find(snapshot), Span(START, START + 3 * SECOND), 3)
    charts.draw_load(Path("x.svg"), "t", series, [Bus("a", 500_000, 500_000), BUSES[1]], [], START)
    values, _, _ = curve(sheets[0].axes[0], "bus a").get_data()
    assert (values > 0).all() and values[1] < values[0]
