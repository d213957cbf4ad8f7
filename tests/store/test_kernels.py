"""The compiled clustering gives what the plain one gives."""

from __future__ import annotations

from random import Random

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from keel.store import chunk, kernels, summing
from keel.store.summary import STEP_BINS, bin_edges, step_bin, summarise
from tests.making import START, Row, batch, rows, same_frames


@given(rows(80, ordered=False))
def test_both_ways_cluster_alike(found: list[Row]) -> None:
    whole = batch(found)
    one, other = chunk.cluster(whole), kernels.cluster(whole)
    assert same_frames(one.batch, other.batch)
    for name in ("order", "arrival", "keys", "starts"):
        assert np.array_equal(getattr(one, name), getattr(other, name))


@given(st.lists(st.integers(0, (1 << 48) - 1), min_size=1, max_size=300))
def test_any_identifiers_are_told_apart(idents: list[int]) -> None:
    whole = batch([Row(START + i, ident, bytes([i % 256])) for i, ident in enumerate(idents)])
    held = kernels.cluster(whole)
    assert held.keys.tolist() == sorted(set(idents))
    assert held.batch.ident[held.order].tolist() == idents
    assert np.array_equal(held.order[held.arrival], np.arange(len(idents)))
    assert np.diff(held.starts).tolist() == [idents.count(int(key)) for key in held.keys]


@given(rows(80, ordered=False), st.randoms(use_true_random=False), st.booleans())
def test_both_ways_summarise_alike(found: list[Row], random: Random, all_of_them: bool) -> None:
    held = chunk.cluster(batch(found))
    wanted = None if all_of_them else np.array([random.random() < 0.7 for _ in found])
    given_to_both = (held.batch, held.keys, held.starts[:-1], held.starts[1:], wanted)
    one, other = summarise.plain(*given_to_both), summing.summarise(*given_to_both)
    for name, column in one.arrays().items():
        assert np.allclose(column, getattr(other, name), rtol=1e-12, atol=0), name


@given(st.lists(st.integers(0, 1 << 61), min_size=1), st.integers(0, 1 << 61))
def test_each_cycle_time_lies_in_its_bin(steps: list[int], one: int) -> None:
    for step, place in zip([*steps, one], step_bin([*steps, one]).tolist(), strict=True):
        low, high = bin_edges([place])
        assert int(low[0]) <= step < int(high[0]) or place == STEP_BINS - 1
        assert place == summing.bin_of(step)
        assert int(high[0] - low[0]) <= max(1, step / 512 * 1.01)
