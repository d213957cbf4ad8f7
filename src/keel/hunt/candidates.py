"""What a hunt answers: candidate fields, best first, and how likely it is that nothing carries it."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from keel.hunt.carriers import Carrier, Floats
from keel.model.fields import BitField

SCORE_NATS = 10.0
MOST_CANDIDATES = 12
LIKELY_NOTHING = 0.5
SURELY_NOTHING = 0.9
"""Above this probability that nothing carries it, no candidate is named."""
ALIKE = 0.004
"""Two fields are copies of one quantity when a line from one to the other misses by no more than this share of its
reach, or by a step of the coarser one."""
COMPARED_AT = 600


def score_of(nats: float) -> float:
    """A log likelihood ratio as a score from 0 to 1."""
    return float(1 - np.exp(-max(nats, 0.0) / SCORE_NATS))


def chance_of_nothing(best: float, least: float, width: float) -> float:
    """How likely it is that nothing carries it: a half where the best score is ``least``, surer by the width."""
    return float(1 / (1 + np.exp(np.clip((best - least) / (0.35 * width), -50, 50))))


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
        candidates: Best first, copies of a better one after all others; empty when nothing carries it.
        notes: What else is worth saying, in sentences: sampling, what was left out, the clock's offset.
    """

    evidence: str
    nothing_probability: float
    candidates: tuple[Candidate, ...]
    identifiers: int = 0
    fields: int = 0
    notes: tuple[str, ...] = field(default=())

    @property
    def verdict(self) -> str:
        """One sentence."""
        if self.candidates and self.nothing_probability > LIKELY_NOTHING:
            return f"probably nothing carries it ({self.nothing_probability:.0%}); these come nearest"
        if self.candidates:
            families = len({c.family for c in self.candidates})
            what = "1 field" if families == 1 else f"{families} fields"
            return f"{what} may carry it; that nothing does: {self.nothing_probability:.1%}"
        return f"nothing carries it ({self.nothing_probability:.0%})"


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
