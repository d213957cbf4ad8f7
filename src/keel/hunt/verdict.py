"""What a hunt concludes: found, undecided, or nothing; and by how much more than chance.

*Found* only where chance reaches as far in few of many tries. *Nothing* only where a carrier would have shown: carriers
made up for the same evidence nearly all do better than the best there is. All between is *undecided*.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
import numpy.typing as npt

Verdict = Literal["found", "undecided", "nothing"]
RARE, RARE_BY_LAW, USUAL = 0.005, 0.002, 0.05
"""So seldom may chance reach as far as what is found, as it was seen or by the law; so often at least as far as what is
no finding."""
POWER = 0.8
"""So many made-up carriers must be found for their absence to say something."""
EXTENDED = 25
"""The law is trusted for chances so much smaller than one in all tries."""
LEAST_WIDTH = 0.7
MISSED = 0.08
"""So many of them may do no better than the best there is."""

Floats = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Judged:
    """A verdict, and what it rests on.

    Attributes:
        chance: How often evidence elsewhere, or in another order, is fitted as well: from 1 / ``tries`` to 1.
        tries: Of how many.
        power: The share of made-up carriers that would have shown: that chance seldom reaches.
        needed: The score from which something is found, in nats.
    """

    verdict: Verdict
    chance: float
    tries: int
    power: float
    needed: float

    @property
    def chance_words(self) -> str:
        """The margin over chance, in true words."""
        return chance_words(self.chance, self.tries)

    @property
    def nothing_probability(self) -> float:
        """How likely it is that nothing carries it, in the sense of the verdict: over a half it is likelier."""
        if self.verdict == "found":
            return self.chance
        if self.verdict == "nothing":
            return 1 - (1 - self.power) / 2
        return float(np.clip(0.2 + self.chance, 0.2, 0.8))


def chance_words(chance: float, tries: int) -> str:
    """As ``1 in 160 by chance``; what never happened in so many tries is less than that."""
    if tries and chance <= 1.001 / tries:
        return f"less than 1 in {tries} by chance"
    if chance < 0.1:
        return f"1 in {1 / chance:.0f} by chance"
    return f"{round(chance * 100)} in 100 by chance"


def judge(
    best: float,
    chance: Floats,
    carriers: Floats,
    least: float = 0.0,
    extend: bool = False,
    usual: float = USUAL,
    possible: bool | None = None,
    missed: float = MISSED,
) -> Judged:
    """The verdict on the best score.

    Args:
        best: The score of the best candidate, in nats.
        chance: The best score of each try in which nothing is to be found, shape (tries - 1,).
        carriers: Scores of carriers made up for this evidence, shape (m,).
        least: A score below which nothing is ever found.
        usual: How often chance must reach as far as what is no finding.
        possible: Whether something there is could well be a carrier, as far as can be told; None leaves it to the
            scores of those made up.
        missed: So many of those made up may do no better than what is no finding.
        extend: Whether chance beyond all tries is told by the law that the greatest of many scores follow.
    """
    tries, rare = len(chance) + 1, RARE
    by_chance = (1 + int(np.count_nonzero(chance >= best))) / tries
    if not len(chance):
        return Judged("undecided", 1.0, 1, 0.0, np.inf)
    needed = max(float(np.quantile(chance, 1 - rare)), least)
    if extend:
        # Gumbel's law for extremes, by its moments. Source: E. Gumbel, Statistics of Extremes, 1958, chapter 6.
        width = max(float(chance.std()) * np.sqrt(6) / np.pi, LEAST_WIDTH)
        middle = float(chance.mean()) - 0.5772 * width
        needed = max(middle - width * float(np.log(-np.log1p(-RARE_BY_LAW))), least)
        rare = RARE_BY_LAW
        tries *= EXTENDED
        by_chance = float(max(-np.expm1(-np.exp((middle - best) / width)), 1 / tries))
    shown = max(float(np.quantile(chance, 1 - USUAL)), least)
    power = float((carriers > shown).mean()) if len(carriers) else 0.0
    verdict: Verdict = "undecided"
    if by_chance <= rare and best >= needed and possible is not False:
        verdict = "found"
    elif by_chance > usual and power >= POWER:
        could_be = best >= float(np.quantile(carriers, missed)) if possible is None else possible
        verdict = "undecided" if could_be else "nothing"
    return Judged(verdict, by_chance, tries, power, needed)
