"""Drawings: whole files, the same each time, and no markup from outside."""

from __future__ import annotations

import xml.etree.ElementTree as ElementTree
from pathlib import Path

import numpy as np
import pytest

from keel.draw.charts import draw_candidate, draw_cycles, draw_load
from keel.draw.sheet import check_ending
from keel.errors import InputError
from keel.measure.cycles import describe
from keel.measure.load import Loads
from keel.model.bus import Bus
from keel.model.span import Mark, Span
from keel.store.recording import Recording
from tests.making import START, find

NASTY = "<script>alert(1)</script> $x_1$ & \x1b[31m"


def texts(path: Path) -> str:
    return " ".join("".join(e.itertext()) for e in ElementTree.parse(path).iter() if e.tag.endswith("text"))


def drawn(path: Path, voyage: Path, title: str = "a voyage") -> Path:
    snapshot = Recording(voyage).snapshot()
    series = Loads().series(find(snapshot), snapshot.span, 100)
    marks = [Mark(1, snapshot.span.start + 20_000_000_000)]
    draw_load(path, title, series, snapshot.manifest.buses, marks, snapshot.span.start)
    return path


def test_the_load_is_drawn_as_svg_and_pdf(tmp_path: Path, voyage: Path) -> None:
    svg = drawn(tmp_path / "load.svg", voyage)
    assert "bus A" in texts(svg) and "bus B" in texts(svg) and "load, %" in texts(svg)
    assert drawn(tmp_path / "load.pdf", voyage).read_bytes().startswith(b"%PDF")


def test_the_same_drawing_gives_the_same_file(tmp_path: Path, voyage: Path) -> None:
    assert drawn(tmp_path / "a.svg", voyage).read_bytes() == drawn(tmp_path / "b.svg", voyage).read_bytes()


def test_text_from_outside_is_no_markup(tmp_path: Path, voyage: Path) -> None:
    svg = drawn(tmp_path / "x.svg", voyage, NASTY)
    assert "<script" not in svg.read_text() and "\x1b" not in svg.read_text()
    assert "<script>alert(1)</script> $x_1$ & ·[31m" in texts(svg)


def test_cycle_times_are_drawn_for_each_identifier(tmp_path: Path) -> None:
    times = START + np.cumsum(np.random.default_rng(1).normal(10e6, 2e5, 300)).astype(np.int64)
    cycle = describe(1, times, int(times[-1]), 40)
    draw_cycles(tmp_path / "c.svg", "cycles", [("HelmCommand 0A4", 0, cycle), (NASTY, 1, cycle)])
    assert "HelmCommand 0A4: " in texts(tmp_path / "c.svg")
    draw_cycles(tmp_path / "none.svg", "nothing at all", [])
    assert "nothing at all" in texts(tmp_path / "none.svg")


def test_a_candidate_is_drawn_over_its_spans(tmp_path: Path) -> None:
    times = START + np.arange(100) * 50_000_000
    values = np.clip(np.arange(100) - 30, 0, 40)
    window = Span(START, START + 5_000_000_000)
    spans = [Span(START + 10**9, START + 3 * 10**9)]
    draw_candidate(tmp_path / "c.svg", "ramp", "in 1 of 1 spans", times, values, spans, window, START)
    assert "in 1 of 1 spans" in texts(tmp_path / "c.svg")


@pytest.mark.parametrize("name", ["x.png", "x", "x.svg.txt"])
def test_other_endings_are_refused(name: str) -> None:
    with pytest.raises(InputError, match=r"an ending of \.svg or \.pdf"):
        check_ending(Path(name))


def test_a_bus_name_cannot_break_the_legend(tmp_path: Path, voyage: Path) -> None:
    snapshot = Recording(voyage).snapshot()
    series = Loads().series(find(snapshot), snapshot.span, 10)
    draw_load(tmp_path / "x.svg", "t", series, [Bus("$\\frac{", 1, 1), Bus("b]<", 1, 1)], [], snapshot.span.start)
    assert "bus $\\frac{" in texts(tmp_path / "x.svg")
