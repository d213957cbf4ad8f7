"""Good against bad: what is different in a bad recording, beyond what differs between any two good ones.

The bad recording is another drive: values differ, and that means nothing. So every measure is first taken between
the two halves of the good one, and what lies beyond is surprising. Surprise is counted in nats, the same for all
kinds, so that they can be ranked among each other.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from keel.hunt.columns import Column
from keel.hunt.constants import CONSTANT, constant_surprises
from keel.hunt.scene import Traffic
from keel.hunt.surprises import Finding, field_surprises
from keel.hunt.timing import guard_surprises, timing_surprises

LEAST_NATS = 6.0
MOST_FINDINGS = 40
ECHO = 0.35
"""What a second finding on one identifier counts: one fault shows in several ways."""


@dataclass(frozen=True)
class Differences:
    """What is different, most surprising first."""

    evidence: str
    findings: tuple[Finding, ...]
    identifiers: int


def good_against_bad(
    good: Traffic, bad: dict[int, Column], cancelled: Callable[[], bool] = lambda: False
) -> Differences:
    """What is wrong in the bad traffic.

    Args:
        good: The good traffic, and its structure.
        bad: The bad traffic.
        cancelled: Looked at now and then; when true the search ends with what it has.
    """
    found: list[Finding] = []
    keys = sorted(set(good.columns) | set(bad))
    span_good, span_bad = _span(good.columns), _span(bad)
    for key in keys:
        if cancelled():
            break
        mine: list[Finding] = []
        one, other = good.columns.get(key), bad.get(key)
        mine += timing_surprises(key, one, other, span_good, span_bad)
        if one is not None and other is not None and _comparable(one, other):
            mine += constant_surprises(one, other)
            mine += guard_surprises(good.structures[key], one, other)
            mine += field_surprises(good.structures[key], one, other)
        mine.sort(key=lambda f: -f.nats)
        found += [f if i == 0 or _stands(f, mine[0]) else f.scaled(ECHO) for i, f in enumerate(mine)]
    found = [f for f in found if f.nats >= LEAST_NATS]
    found.sort(key=lambda f: (-f.nats, f.key))
    return Differences(f"{len(good.columns)} identifiers against {len(bad)}", tuple(found[:MOST_FINDINGS]), len(keys))


def _stands(finding: Finding, first: Finding) -> bool:
    """Whether it is certain in itself, or the same fault of the same field under another name."""
    if finding.kind == CONSTANT:
        return True
    if first.kind == CONSTANT and first.field is not None and finding.field is not None:
        # A number that goes beyond its range, seen by its highest bits.
        return set(first.field.bits) <= set(finding.field.bits)
    kinds = {finding.kind, first.kind}
    return kinds == {"stuck", "out_of_range"} and finding.field == first.field and finding.page == first.page


def _comparable(one: Column, other: Column) -> bool:
    return min(len(one.times), len(other.times)) > 7 and one.payloads.shape[1] == other.payloads.shape[1]


def _span(columns: dict[int, Column]) -> tuple[int, int]:
    times = [c.times for c in columns.values() if len(c.times)]
    if not times:
        return 0, 0
    return min(int(t[0]) for t in times), max(int(np.max(t)) for t in times)
