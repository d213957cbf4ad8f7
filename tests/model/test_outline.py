"""Waveforms as they are drawn: each cell shows what is in it, however coarse."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.model.outline import bounds_of, outline_of_levels, outline_of_volts, shift
from keel.model.waveform import Analog, Logic


@given(
    n=st.integers(2, 40_000),
    cells=st.integers(1, 60),
    begin=st.integers(0, 50_000),
    width=st.integers(1, 60_000),
    seed=st.integers(0, 1000),
)
def test_a_cell_shows_all_that_is_in_it(n: int, cells: int, begin: int, width: int, seed: int) -> None:
    samples = np.random.default_rng(seed).normal(0, 1, n).astype(np.float32)
    wave = Analog(0, 10.0, samples)
    edges = np.linspace(begin * 10, (begin + width) * 10, cells + 1).astype(np.int64)
    least, most = outline_of_volts(wave, bounds_of(samples), edges)
    seen = np.isfinite(least)
    assert (least[seen] <= most[seen]).all()
    for k in range(cells):
        # What lies within a cell for sure is within its bounds.
        inside = samples[min(-(-int(edges[k]) // 10), n) : min(int(edges[k + 1]) // 10, n)]
        if len(inside):
            assert seen[k] and least[k] <= inside.min() and most[k] >= inside.max()
    assert not seen[edges[:-1] > (n + 1) * 10].any()
    assert (least[seen] >= samples.min()).all() and (most[seen] <= samples.max()).all()


def test_between_samples_a_line_is_drawn_and_numbers_of_any_kind_have_a_scale() -> None:
    wave = Analog(100, 100.0, np.array([0, 1000, 1000, 0], np.int16), 1e-3)
    least, most = outline_of_volts(wave, None, np.arange(100, 401, 10))
    assert least[0] == 0 and most[4] == pytest.approx(0.5) and least[15] == most[15] == pytest.approx(1.0)
    assert least[25] == pytest.approx(0.4) and most[25] == pytest.approx(0.5)


def test_levels_have_edges_in_cells_a_level_at_their_begin_and_unknown_stretches() -> None:
    line = Logic(0, 1000, 1, np.array([100, 150, 450]), ((600, 700),))
    counts, levels = outline_of_levels(line, np.arange(-100, 1101, 100))
    assert counts.tolist() == [0, 0, 2, 0, 0, 1, 0, 0, 0, 0, 0, 0]
    assert levels.tolist() == [-1, 1, 1, 1, 1, 1, 0, -1, 0, 0, 0, -1]


def test_a_waveform_is_laid_elsewhere_with_all_it_has() -> None:
    line = shift(Logic(0, 10, 0, np.array([5]), ((7, 8),)), 100)
    assert isinstance(line, Logic)
    assert (line.start, line.end, line.edges.tolist(), line.unknown) == (100, 110, [105], ((107, 108),))
    volts = shift(Analog(0, 2.0, np.zeros(4)), -50)
    assert (volts.start, volts.end) == (-50, -42)
