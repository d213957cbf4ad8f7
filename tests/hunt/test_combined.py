"""Evidence of several kinds at once, and what would tell two candidates apart."""

from __future__ import annotations

import numpy as np
import pytest

from keel.hunt.candidates import Candidate, Findings
from keel.hunt.columns import Column
from keel.hunt.evidence import Evidence, tell_apart, together
from keel.hunt.measurements import Points
from keel.hunt.traffic import Traffic
from keel.hunt.verdict import Verdict
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


VERDICTS: list[tuple[Verdict, Verdict, float, float, Verdict]] = [
    ("found", "undecided", 0.01, 0.4, "found"),
    ("undecided", "undecided", 0.3, 0.3, "undecided"),
    ("undecided", "undecided", 0.05, 0.05, "found"),
    ("nothing", "undecided", 0.95, 0.4, "nothing"),
    ("nothing", "found", 0.95, 0.01, "undecided"),
]


@pytest.mark.parametrize(("one", "other", "p", "q", "both"), VERDICTS)
def test_verdicts_come_together(one: Verdict, other: Verdict, p: float, q: float, both: Verdict) -> None:
    named = {verdict: () if verdict == "nothing" else (candidate(1),) for verdict in ("found", "undecided", "nothing")}
    parts = [Findings("a", p, named[one], verdict=one), Findings("b", q, named[other], verdict=other)]
    found = together(parts)
    assert found.verdict == both
    assert bool(found.candidates) == (both != "nothing")
    assert (found.nothing_probability > 0.5) == (both == "nothing")


def test_without_any_evidence_nothing_is_named() -> None:
    assert Evidence().follow(traffic()).candidates == ()
    assert Evidence(spans=(Span(0, NS),)).points is None
