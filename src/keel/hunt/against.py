"""Good against bad: what is different in a bad recording, beyond what differs between any two good ones.

The bad recording is another drive: values differ, and that means nothing. So every measure is first taken between
the two halves of the good one, and what lies beyond is surprising. Surprise is counted in nats, the same for all
kinds, so that they can be ranked among each other.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from keel.hunt.columns import Column
from keel.hunt.constants import CONSTANT, constant_surprises
from keel.hunt.structure import Structure
from keel.hunt.surprises import Finding, field_surprises
from keel.hunt.timing import guard_surprises, timing_surprises
from keel.hunt.traffic import Traffic

LEAST_NATS = 6.0
MOST_FINDINGS = 40
FEWEST_IN_HALF = 16
EQUALLY = 0.5
"""What a finding loses of what is as surprising between two halves of the good traffic."""
WHOLE = ("out_of_range", "not_available", "stuck")
"""What a number does when its highest bits are always otherwise."""
NEAR_BITS = 2
"""Bits that always stand otherwise, and lie no further above a number, are the number's."""
DOUBTS = {"stuck": 0.62, "out_of_range": 0.62, "noisy": 0.62}
"""What another drive may do by itself, beside what only a fault does."""
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
        one, other = good.columns.get(key), bad.get(key)
        structure = good.structures.get(key)
        mine = _surprises(structure, key, one, other, span_good, span_bad)
        if structure is not None and one is not None and any(f.nats >= LEAST_NATS for f in mine):
            mine = _beside(mine, _natural(structure, one, span_good))
        mine = sorted((_weighed(f) for f in _merged(mine, structure)), key=lambda f: -f.nats)
        found += [f if i == 0 or _stands(f, mine[0]) else f.scaled(ECHO) for i, f in enumerate(mine)]
    found = [f for f in found if f.nats >= LEAST_NATS]
    found.sort(key=lambda f: (-f.nats, f.key))
    return Differences(f"{len(good.columns)} identifiers against {len(bad)}", tuple(found[:MOST_FINDINGS]), len(keys))


def _surprises(
    structure: Structure | None,
    key: int,
    one: Column | None,
    other: Column | None,
    span_good: tuple[int, int],
    span_bad: tuple[int, int],
) -> list[Finding]:
    """All that is different of one identifier, in nats of its own kind."""
    found = timing_surprises(key, one, other, span_good, span_bad)
    if structure is not None and one is not None and other is not None and _comparable(one, other):
        found += constant_surprises(one, other)
        found += guard_surprises(structure, one, other)
        found += field_surprises(structure, one, other)
    return found


def _natural(structure: Structure, good: Column, span: tuple[int, int]) -> list[Finding]:
    """What one half of the good traffic would be said to do, beside the other."""
    middle = len(good.times) // 2
    if middle < FEWEST_IN_HALF:
        return []
    halves = [good.part(slice(0, middle)), good.part(slice(middle, None))]
    at = int(good.times[middle])
    spans = (span[0], at), (at, span[1])
    found = []
    for a, b in ((0, 1), (1, 0)):
        found += _surprises(structure, good.key, halves[a], halves[b], spans[a], spans[b])
    return found


def _beside(found: list[Finding], natural: list[Finding]) -> list[Finding]:
    """Findings less surprising by what is so in good traffic, too; what is as much so there is none."""
    kept = []
    for finding in found:
        same = [f.nats for f in natural if f.kind == finding.kind and f.page == finding.page and _touch(f, finding)]
        usual = max(same, default=0.0)
        if usual < finding.nats:
            kept.append(finding.scaled(1 - EQUALLY * usual / finding.nats) if usual > 0 else finding)
    return kept


def _touch(one: Finding, other: Finding) -> bool:
    """Whether two findings are of the same field, or of none."""
    if one.field is None or other.field is None:
        return one.field is other.field
    return bool(set(one.field.bits) & set(other.field.bits))


def _merged(found: list[Finding], structure: Structure | None) -> list[Finding]:
    """Without what is said twice: constants that are a number's highest bits, and numbers that seem to go far because
    a bit well above them always stands otherwise."""
    kept = [f for f in found if f.kind != CONSTANT]
    for constant in (f for f in found if f.kind == CONSTANT):
        bits = set(constant.field.bits) if constant.field is not None else set()
        about = [f for f in kept if f.kind in WHOLE and f.field is not None and bits <= set(f.field.bits)]
        near = [f for f in about if structure is not None and _gap(f, bits, structure) <= NEAR_BITS]
        rest = [f for f in kept if f not in about]
        # What the number does is then as certain as its highest bits are.
        surer = [replace(f, nats=max(f.nats, constant.nats / DOUBTS.get(f.kind, 1.0))) for f in near]
        kept = rest + (surer or [constant])
    return kept


def _gap(finding: Finding, bits: set[int], structure: Structure) -> int:
    """How many bits that never move lie between a number and bits above it."""
    assert finding.field is not None
    own = finding.field.bits
    pieces = (p for p in structure.numbers if p.page == finding.page and p.field.bits[0] == own[0])
    length = max((p.field.length for p in pieces), default=0)
    return min(own.index(bit) for bit in bits) - length


def _weighed(finding: Finding) -> Finding:
    """Of kinds that another drive may show by itself the surprise counts for less."""
    return finding.scaled(DOUBTS.get(finding.kind, 1.0))


def _stands(finding: Finding, first: Finding) -> bool:
    """Whether it is certain in itself, or the same fault of the same field under another name."""
    if finding.kind == CONSTANT:
        return True
    kinds = {finding.kind, first.kind}
    return kinds == {"stuck", "out_of_range"} and finding.field == first.field and finding.page == first.page


def _comparable(one: Column, other: Column) -> bool:
    return min(len(one.times), len(other.times)) > 7 and one.payloads.shape[1] == other.payloads.shape[1]


def _span(columns: dict[int, Column]) -> tuple[int, int]:
    times = [c.times for c in columns.values() if len(c.times)]
    if not times:
        return 0, 0
    return min(int(t[0]) for t in times), max(int(np.max(t)) for t in times)
