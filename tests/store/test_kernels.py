"""The compiled clustering gives what the plain one gives."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from keel.store import chunk, kernels
from tests.making import START, Row, batch, rows, same_frames


@given(rows(80, ordered=False))
def test_both_ways_cluster_alike(found: list[Row]) -> None:
    whole = batch(found)
    one, other = chunk.cluster(whole), kernels.cluster(whole)
    assert same_frames(one[0], other[0])
    for a, b in zip(one[1:], other[1:], strict=True):
        assert np.array_equal(a, b)


@given(st.lists(st.integers(0, (1 << 48) - 1), min_size=1, max_size=300))
def test_any_identifiers_are_told_apart(idents: list[int]) -> None:
    whole = batch([Row(START + i, ident, bytes([i % 256])) for i, ident in enumerate(idents)])
    stored, order, run_keys, starts = kernels.cluster(whole)
    assert run_keys.tolist() == sorted(set(idents))
    assert stored.ident[order].tolist() == idents
    assert np.diff(starts).tolist() == [idents.count(int(key)) for key in run_keys]
