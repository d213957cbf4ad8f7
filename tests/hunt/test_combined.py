"""Evidence of several kinds at once, and what would tell two candidates apart."""

from __future__ import annotations

import numpy as np
import pytest

from keel.hunt.candidates import Candidate, Findings
from keel.hunt.columns import Column
from keel.hunt.evidence import Evidence, tell_apart, together
from keel.hunt.points import Points
from keel.hunt.scene import Traffic
from keel.model.fields import BitField
from keel.model.span import Span

NS = 1_000_000_000


def traffic() -> Traffic:
    """Two identifiers: one follows a wave, the other the same wave until 30 s and then goes its own way."""
    times = np.arange(6000) * 10_000_000
    t = times / NS
    wave = (100 + 60 * np.sin(t / 5)).round()
    other = np.where(t < 30, wave, 100 + 60 * np.cos(t / 3)).round()
    columns = {}
    for key, values in ((1, wave), (2, other)):
        payloads = np.zeros((len(times), 2), np.uint8)
        payloads[:, 0] = values
        payloads[:, 1] = np.arange(len(times)) % 16
        columns[key] = Column(key, times, payloads)
    return Traffic.of(columns)


def candidate(key: int, scale: float | None = 1.0) -> Candidate:
    return Candidate(key, BitField(0, 8), 5.0, "fits", scale=scale, offset=0.0 if scale else None, family=key)


def test_what_tells_two_apart_is_where_they_differ_for_long() -> None:
    found = tell_apart(traffic(), candidate(1), candidate(2), 0)
    assert found.time is not None and found.time > 30 * NS
    assert abs(found.values[0] - found.values[1]) > 60 and "a reading at" in found.words
    raw = tell_apart(traffic(), candidate(1, None), candidate(2, None), 0)
    assert "did the device act there?" in raw.words


def test_what_never_differs_is_told_so() -> None:
    assert "the same all the time" in tell_apart(traffic(), candidate(1), candidate(1), 0).words


def test_readings_that_both_fit_are_decided_by_other_evidence() -> None:
    whole = traffic()
    moments = np.array([3, 8, 13, 18, 23, 27]) * NS
    wave = 100 + 60 * np.sin(moments / NS / 5)
    readings = Points(moments, wave.round())
    alone = Evidence(readings=readings).follow(whole)
    assert {c.key for c in alone.candidates[:2]} == {1, 2}
    later = Points(np.arange(32, 58, 1.0).astype(np.int64) * NS, 100 + 60 * np.sin(np.arange(32, 58, 1.0) / 5))
    both = Evidence(readings=readings, series=later).follow(whole)
    assert both.candidates[0].key == 1 and " and " in both.evidence
    assert both.candidates[0].nats > alone.candidates[0].nats
    assert both.candidates[0].family == 1


@pytest.mark.parametrize("p, q, least, most", [(0.1, 0.1, 0.0, 0.05), (0.9, 0.9, 0.95, 1.0), (0.9, 0.1, 0.4, 0.6)])
def test_chances_of_nothing_come_together(p: float, q: float, least: float, most: float) -> None:
    parts = [Findings("a", p, (candidate(1),)), Findings("b", q, (candidate(1),))]
    found = together(parts)
    assert least <= found.nothing_probability <= most
    # Above nine in ten nothing is named.
    assert bool(found.candidates) == (found.nothing_probability <= 0.9)


def test_without_any_evidence_nothing_is_named() -> None:
    assert Evidence().follow(traffic()).candidates == ()
    assert Evidence(spans=(Span(0, NS),)).points is None
