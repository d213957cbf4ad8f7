"""Evidence of several kinds about one thing, searched together; and what would tell two candidates apart.

Each kind is searched by its own means. What they say of a field adds up: log likelihood ratios of independent
evidence do. That nothing carries it must hold for all of them at once.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from keel.hunt.candidates import MOST_CANDIDATES, Candidate, Findings
from keel.hunt.carriers import Floats
from keel.hunt.exact import Known, find_exact
from keel.hunt.marks import follow_marks
from keel.hunt.measurements import Points
from keel.hunt.readings import follow_readings
from keel.hunt.series import WITHIN_S, follow_series
from keel.hunt.traffic import Traffic
from keel.hunt.verdict import Verdict
from keel.model.frames import Times
from keel.model.span import Span
from keel.model.units import NS_PER_S

COMPARED_AT = 1000
SHOWS = {
    "hold": "stays so as long as you hold",
    "flip": "turns once and stays",
    "step": "takes another value and stays",
    "pulse": "stands for a moment only",
    "move": "moves",
    "frames": "is sent",
}
"""What candidates do when something is held."""
PROVED = 0.02
"""Undecided verdicts prove something together where it is less likely than that that nothing carries it."""
TOGETHER_NATS = 8.0
SURE, UNSURE = 0.98, 0.02
"""No single kind of evidence counts for more than this."""


@dataclass(frozen=True)
class Evidence:
    """What is known of what is looked for; any of it may be missing."""

    spans: tuple[Span, ...] = ()
    readings: Points | None = None
    series: Points | None = None
    known: Known | None = None
    clock_within_s: float = WITHIN_S

    @property
    def points(self) -> Points | None:
        """What has values: readings, or the series."""
        return self.readings if self.readings is not None else self.series

    def follow(self, traffic: Traffic, cancelled: Callable[[], bool] = lambda: False) -> Findings:
        """The fields that carry it, by all the evidence there is."""
        found: list[Findings] = []
        if self.readings is not None:
            found.append(follow_readings(traffic, self.readings, cancelled))
        if self.series is not None:
            found.append(follow_series(traffic, self.series, cancelled, self.clock_within_s))
        if self.known is not None:
            found.append(find_exact(traffic, self.known, cancelled))
        if self.spans or not found:
            found.append(follow_marks(traffic, list(self.spans), cancelled))
        return found[0] if len(found) == 1 else together(found)


_Where = tuple[int, int | None, str, frozenset[int]]
"""A field: identifier, page, the header's field that it is, bits."""


def together(found: list[Findings]) -> Findings:
    """What several kinds of evidence say at once; scale and offset are of the first that tells them."""
    kept: dict[_Where, tuple[Candidate, tuple[int, int]]] = {}
    for source, findings in enumerate(found):
        for candidate in findings.candidates:
            name = next((n for n in kept if _same_field(n, candidate)), None)
            if name is None:
                place = (candidate.key, candidate.page, candidate.header, frozenset(candidate.field.bits))
                kept[place] = (candidate, (source, candidate.family))
                continue
            old, family = kept[name]
            why = old.why if candidate.why in old.why else f"{old.why}; {candidate.why}"
            kept[name] = (replace(old, nats=max(old.nats, 0.0) + max(candidate.nats, 0.0), why=why), family)
    verdict, nothing = _both(found, kept)
    numbers: dict[tuple[int, int], int] = {}
    first: list[Candidate] = []
    copies: list[Candidate] = []
    for candidate, family in sorted(kept.values(), key=lambda pair: -pair[0].nats):
        known = family in numbers
        numbers.setdefault(family, len(numbers) + 1)
        (copies if known else first).append(replace(candidate, family=numbers[family]))
    candidates = (first + copies)[:MOST_CANDIDATES] if verdict != "nothing" else []
    notes = tuple(dict.fromkeys(note for f in found for note in f.notes))
    evidence = " and ".join(f.evidence for f in found)
    best = min(found, key=lambda f: f.nothing_probability)
    reasons = [f"{f.evidence}: {f.reason}" for f in found if f.reason and f.verdict != "found"]
    reason = "" if verdict == "found" else "; ".join(reasons)
    fields = (found[0].identifiers, found[0].fields)
    return Findings(evidence, nothing, tuple(candidates), *fields, notes, verdict, best.chance, reason)


def _both(found: list[Findings], kept: dict[_Where, tuple[Candidate, tuple[int, int]]]) -> tuple[Verdict, float]:
    """What several verdicts make together, and how likely it is then that nothing carries it.

    Undecided ones that agree on a field may prove it together: chance must do it several times. One that is sure of
    nothing beside one that has found something leaves it undecided.
    """
    odds = 0.0
    for findings in found:
        p = min(max(findings.nothing_probability, UNSURE), SURE)
        odds += float(np.log(p / (1 - p)))
    nothing = float(1 / (1 + np.exp(-odds)))
    verdicts = {f.verdict for f in found}
    verdict: Verdict = "undecided"
    if verdicts >= {"found", "nothing"}:
        nothing = min(nothing, 0.5)
    elif "found" in verdicts:
        verdict, nothing = "found", min(nothing, PROVED)
    elif "nothing" in verdicts:
        verdict, nothing = "nothing", max(nothing, 1 - PROVED)
    elif len(found) > 1 and nothing < PROVED and any(c.nats >= TOGETHER_NATS for c, _ in kept.values()):
        verdict = "found"
    return verdict, nothing


def _same_field(name: _Where, candidate: Candidate) -> bool:
    """Whether two candidates are one field, give or take a few bits."""
    *place, bits = name
    other = set(candidate.field.bits)
    return place == [candidate.key, candidate.page, candidate.header] and len(bits & other) >= 0.6 * len(bits | other)


@dataclass(frozen=True)
class Telling:
    """What would tell two candidates apart: when they differ most, what each says then, and a sentence."""

    time: int | None
    values: tuple[float, float]
    words: str


def tell_apart(traffic: Traffic, one: Candidate, other: Candidate, start: int) -> Telling:
    """The moment at which two candidates differ most: a reading there would decide.

    Args:
        traffic: The frames.
        one, other: The candidates.
        start: Time zero, in ns, for the sentence.
    """
    if one.shape and other.shape and one.shape != other.shape:
        does = f"candidate 1 {SHOWS[one.shape]}, candidate 2 {SHOWS[other.shape]}"
        return Telling(None, (0.0, 0.0), f"press once and hold for 3 s: {does}")
    (t1, v1), (t2, v2) = (_physical(traffic, c) for c in (one, other))
    low, high = max(t1[0], t2[0]), min(t1[-1], t2[-1])
    if high <= low:
        return Telling(None, (0.0, 0.0), "they were never sent at the same time")
    moments = np.linspace(0.0, float(high - low), COMPARED_AT).astype(np.int64) + low
    a, b = (v[np.maximum(np.searchsorted(t, moments, "right") - 1, 0)] for t, v in ((t1, v1), (t2, v2)))
    if one.scale is None or other.scale is None:
        # Without values in the evidence only the course can be compared.
        a, b = _share(a), _share(b)
    reach = max(float(np.ptp(a)), float(np.ptp(b)), 1e-12)
    # Short spikes are missed by people: what counts is how long they stay apart.
    apart = np.convolve(np.abs(a - b), np.ones(9) / 9, "same")
    at = int(apart.argmax())
    if apart[at] < 0.02 * reach:
        return Telling(None, (0.0, 0.0), "they say the same all the time: operate the device in another way")
    seconds = (int(moments[at]) - start) / NS_PER_S
    if one.scale is None or other.scale is None:
        high_one = a[at] > b[at]
        what = f"candidate {'1' if high_one else '2'} is high and the other low: did the device act there?"
        return Telling(int(moments[at]), (float(a[at]), float(b[at])), f"at {seconds:.1f} s {what}")
    words = f"a reading at {seconds:.1f} s decides: 1 says {a[at]:.6g}, 2 says {b[at]:.6g}"
    return Telling(int(moments[at]), (float(a[at]), float(b[at])), words)


def _physical(traffic: Traffic, candidate: Candidate) -> tuple[Times, Floats]:
    times, raw = traffic.values(candidate.key, candidate.field, candidate.page, candidate.header)
    return times, raw.astype(np.float64) * float(candidate.scale or 1.0) + float(candidate.offset or 0.0)


def _share(values: Floats) -> Floats:
    """Values from 0 for the least to 1 for the most."""
    least = values.min()
    share: Floats = (values - least) / max(float(values.max() - least), 1e-12)
    return share
