"""What a hunt answers: candidate fields, best first, and how likely it is that nothing carries it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

import numpy as np

from keel.hunt.carriers import Carrier, Floats
from keel.hunt.verdict import Judged, Verdict
from keel.model.fields import BitField

if TYPE_CHECKING:
    from keel.hunt.traffic import Traffic

SCORE_NATS = 10.0
MOST_CANDIDATES = 12
BESIDE, BEST_FEW = 0.3, 6
"""Beside what is found only what fits that well, by its score; where nothing is proved so many."""
NOTHING_TO_GO_BY = 0.8
"""The chance that nothing carries it where no evidence speaks."""
ALIKE = 0.004
"""Two fields are copies of one quantity when a line from one to the other misses by no more than this share of its
reach, or by a step of the coarser one."""
COMPARED_AT = 600


def score_of(nats: float) -> float:
    """A log likelihood ratio as a score from 0 to 1."""
    return float(1 - np.exp(-max(nats, 0.0) / SCORE_NATS))


@dataclass(frozen=True)
class Candidate:
    """A field that may carry it.

    Attributes:
        page: The selector's value, if its identifier has pages.
        scale, offset: Physical value = raw × scale + offset, where the evidence has values; else None.
        lag_s: How long after the field the evidence came; negative if before.
        nats: Log likelihood ratio: this field carries it, against nothing does.
        family: Candidates of one number are copies of one quantity.
        residual: Typical and worst distance from the evidence, in its unit.
        header: The header's field that it is; empty for one of the payload.
        shape: What a press does to it, where marks are the evidence: hold, flip, step, pulse, move or frames.
    """

    key: int
    field: BitField
    nats: float
    why: str
    page: int | None = None
    scale: float | None = None
    offset: float | None = None
    lag_s: float = 0.0
    family: int = 0
    residual: tuple[float, float] | None = None
    shape: str = ""
    header: str = ""

    @property
    def score(self) -> float:
        """From 0 to 1, for people."""
        return round(score_of(self.nats), 4)


@dataclass(frozen=True)
class Findings:
    """What a hunt found.

    Attributes:
        evidence: What was looked for, in words.
        nothing_probability: How likely it is that nothing carries it.
        candidates: Best first, copies of a better one after all others; unproven where the verdict is undecided,
            empty where it is nothing.
        notes: What else is worth saying, in sentences: sampling, what was left out, the clock's offset.
        verdict: Found, undecided or nothing.
        chance: The margin over chance, as ``1 in 160 by chance``; empty where none is known.
        reason: Why nothing is found, or what would decide it, in a sentence.
    """

    evidence: str
    nothing_probability: float
    candidates: tuple[Candidate, ...]
    identifiers: int = 0
    fields: int = 0
    notes: tuple[str, ...] = field(default=())
    verdict: Verdict = "undecided"
    chance: str = ""
    reason: str = ""

    @classmethod
    def of(
        cls,
        evidence: str,
        judged: Judged,
        candidates: tuple[Candidate, ...],
        traffic: Traffic,
        reason: str = "",
        notes: tuple[str, ...] = (),
    ) -> Findings:
        """What was judged, with what was searched."""
        return cls(
            evidence,
            judged.nothing_probability,
            candidates,
            len(traffic.columns),
            len(traffic.carriers),
            traffic.notes + notes,
            judged.verdict,
            judged.chance_words,
            reason,
        )

    @property
    def sentence(self) -> str:
        """The verdict as a sentence."""
        families = len({c.family for c in self.candidates})
        fields = "1 field" if families == 1 else f"{families} fields"
        if self.verdict == "found":
            return f"found: {fields} may carry it, {self.chance}"
        if self.verdict == "nothing":
            return f"nothing carries it: {self.reason}"
        if not self.candidates:
            return f"undecided: {self.reason}"
        chance = f", {self.chance}" if self.chance else ""
        return f"undecided: {fields} come nearest, none proved{chance}; {self.reason}"


def worth_naming(candidates: list[Candidate], judged: Judged) -> tuple[Candidate, ...]:
    """Of what is found the best and what fits nearly as well; of what is undecided the best few; else none."""
    if judged.verdict == "nothing" or not candidates:
        return ()
    if judged.verdict == "undecided":
        return tuple(candidates[:BEST_FEW])
    best = max(c.nats for c in candidates)
    return tuple(c for c in candidates[:MOST_CANDIDATES] if c.nats >= BESIDE * best)


def unheard(evidence: str, traffic: Traffic, reason: str) -> Findings:
    """What is said where the evidence cannot tell anything."""
    count, fields = len(traffic.columns), len(traffic.carriers)
    return Findings(evidence, NOTHING_TO_GO_BY, (), count, fields, traffic.notes, "undecided", "", reason)


def in_families(found: list[tuple[Candidate, Carrier]]) -> list[Candidate]:
    """Number the families, and put copies after the best of each family.

    Args:
        found: Candidates, best first, with the series of each.
    """
    leaders: list[tuple[int, Carrier]] = []
    first: list[Candidate] = []
    copies: list[Candidate] = []
    for candidate, carrier in found:
        family = next((number for number, other in leaders if are_copies(carrier, other)), None)
        if family is None:
            leaders.append((len(leaders) + 1, carrier))
            first.append(replace(candidate, family=len(leaders)))
        else:
            copies.append(replace(candidate, family=family))
    return first + copies


def under_originals(candidates: Sequence[Candidate]) -> list[Candidate]:
    """The same with each copy under its original, as people read them."""
    families = dict.fromkeys(c.family for c in candidates)
    return [c for family in families for c in candidates if c.family == family]


def are_copies(a: Carrier, b: Carrier) -> bool:
    """Whether two fields say the same quantity, each in its own scale."""
    low, high = max(a.times[0], b.times[0]), min(a.times[-1], b.times[-1])
    if high <= low:
        return False
    moments = np.linspace(float(0), float(high - low), COMPARED_AT).astype(np.int64) + low
    x, y = a.at(moments), b.at(moments)
    return _follows(x, y) and _follows(y, x)


def _follows(x: Floats, y: Floats) -> bool:
    dx, dy = x - x.mean(), y - y.mean()
    if not dx.any() or not dy.any():
        return False
    slope = float((dx * dy).sum() / (dx * dx).sum())
    missed = float(np.sqrt(np.mean((dy - slope * dx) ** 2)))
    reach = float(y.max() - y.min())
    # A step of the coarser of the two, told in units of y.
    step = max(1.0, abs(slope))
    if reach <= 2 * step:
        # Flags and the like are copies when they change together.
        return missed <= 0.1 * reach
    return missed <= max(ALIKE * reach, 0.6 * step)
