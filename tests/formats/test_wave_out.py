"""Parts of channels written as files, and read again."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.errors import InputError
from keel.formats.vcd import read_vcd
from keel.formats.wave_out import write_text, write_vcd
from keel.formats.wave_text import read_wave_text
from keel.model.span import Span
from keel.model.waveform import Analog, Channel, Logic


def logic(*edges: int, first: int = 0, end: int = 1_000, unknown: tuple[tuple[int, int], ...] = ()) -> Logic:
    return Logic(0, end, first, np.array(edges, np.int64), unknown)


def test_volts_and_levels_stand_beside_each_other_and_are_read_again(tmp_path: Path) -> None:
    volts = Analog(0, 10.0, np.arange(100, dtype=np.float32) / 10)
    path = tmp_path / "cut.csv"
    write_text(path, [Channel("A", 1, volts), Channel("b, c", 2, logic(105, 300))], Span(100, 400))
    lines = path.read_text().splitlines()
    assert lines[0] == 'time (s),A (V),"b, c"' and lines[1] == "0.000000100,1,0" and "0.000000105,1,1" in lines
    found = read_wave_text(path)
    one = found[0].wave
    assert isinstance(one, Analog) and one.start == 100
    assert float(one.volts()[0]) == 1.0 and float(one.volts()[-1]) == 4.0


def test_levels_are_a_dump_from_the_begin_of_the_cut(tmp_path: Path) -> None:
    path = tmp_path / "cut.vcd"
    write_vcd(path, [("clk", logic(*range(50, 1_000, 50))), ("a b", logic(220, first=1))], Span(200, 500))
    found = {one.name: one.wave for one in read_vcd(path).channels}
    clock, data = found["clk"], found["a_b"]
    assert isinstance(clock, Logic) and isinstance(data, Logic)
    assert clock.edges.tolist() == [50, 100, 150, 200, 250] and clock.first == 0
    assert data.edges.tolist() == [20] and data.first == 1 and data.end == 300


def test_what_is_not_known_is_not_known_in_the_file(tmp_path: Path) -> None:
    path = tmp_path / "cut.vcd"
    write_vcd(path, [("x", logic(100, 700, unknown=((300, 400),)))], Span(50, 900))
    (found,) = read_vcd(path).channels
    assert isinstance(found.wave, Logic)
    assert found.wave.unknown == ((250, 350),) and found.wave.edges.tolist() == [50, 650]
    write_text(path, [Channel("x", 1, logic(100, 700, unknown=((300, 400),)))], Span(50, 900))
    assert path.read_text().splitlines()[-1] == "0.000000900,0"


def test_a_cut_of_nothing_is_refused(tmp_path: Path) -> None:
    with pytest.raises(InputError):
        write_text(tmp_path / "x.csv", [Channel("a", 1, logic(100))], Span(2_000, 3_000))
    with pytest.raises(InputError):
        write_vcd(tmp_path / "x.vcd", [], Span(0, 10))


@given(st.lists(st.integers(1, 60), min_size=1, max_size=40), st.integers(0, 500), st.integers(1, 900), st.booleans())
def test_whatever_is_cut_out_is_as_it_was(gaps: list[int], begin: int, length: int, first: bool) -> None:
    import tempfile

    edges = np.cumsum(gaps).astype(np.int64)
    line = Logic(0, int(edges[-1]) + 50, int(first), edges)
    span = Span(min(begin, line.end - 2), min(begin + length, line.end))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "x.vcd"
        write_vcd(path, [("x", line)], span)
        channels = read_vcd(path).channels
    for one in channels:
        assert isinstance(one.wave, Logic)
        inside = edges[(edges > span.start) & (edges < span.end)]
        assert one.wave.edges.tolist() == (inside - span.start).tolist()
        assert one.wave.first == line.level_at(span.start)
