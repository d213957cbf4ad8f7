"""Which code a line is in: by what a reading accounts for, less what chance and its own freedom would account for.

A reading of a waveform is a description of it (Rissanen's description length, 1978). What speaks for one is counted in
bits: of all that was on the wire, the bits that the reading foretold and that came so. A stop bit is foretold, a parity
bit, a checksum, an edge on the grid of the bit time; a data bit is not. Three rules keep chance and freedom out:

- What repeats tells once. A byte or a frame that comes a thousand times was foretold by its first coming, whatever the
  code is: only different ones count, and the first of them is spent on the settings.
- What is foretold wrongly at times tells less: a bit that is wrong in a share ``f`` of all cases tells ``1 - H(f)``,
  where ``H`` is Shannon's entropy. A wrong bit in a hundred leaves nine tenths, one in three next to nothing. And one
  that is foretold to be the same every time tells nothing, as it needs no foretelling.
- Settings cost what choosing them cost: the less usual a way to read is, the more it has to foretell.

So eight bits with a parity bit, some of them wrong, win over nine bits without: the ninth would have been free. And a
bit that never changes wins nothing: no reading is asked to foretell it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from keel.model.frames import FrameBatch
from keel.model.prints import prints_of

TOLD = 8.0
"""A reading is taken for what the line is where so many bits are left: chance does that once in 256 lines."""
LEAST_EXPLAINED = 0.2
"""And where what it says covers such a share of the time in which the line is active."""
MOST_OF_AN_EDGE = 4.0
"""An edge on its grid tells no more, however exactly it lies there."""


@dataclass(frozen=True)
class Evidence:
    """What speaks for a reading, in bits.

    Attributes:
        foretold: What came as it had to, different cases only, less what came otherwise.
        settings: What choosing the reading's settings cost.
    """

    foretold: float
    settings: float = 0.0

    @property
    def bits(self) -> float:
        """What is left."""
        return self.foretold - self.settings

    def __add__(self, more: Evidence) -> Evidence:
        """What speaks for a reading that foretells more of the same line."""
        return Evidence(self.foretold + more.foretold, self.settings + more.settings)


NOTHING = Evidence(0.0)


def entropy(share: float) -> float:
    """Shannon's entropy of a bit that is set in a share of all cases, in bits."""
    if not 0.0 < share < 1.0:
        return 0.0
    return -share * float(np.log2(share)) - (1.0 - share) * float(np.log2(1.0 - share))


def certainty(wrong: float, ones: float = 0.5) -> float:
    """What a foretold bit tells, in bits, that came otherwise in some cases: H(ones) - H(wrong), nothing below 0.

    Args:
        wrong: The share of cases in which it came otherwise.
        ones: The share of cases in which it was foretold to be set: a bit that is always the same tells nothing.
    """
    if wrong >= 0.5:
        return 0.0
    return max(entropy(ones) - entropy(wrong), 0.0)


def of_an_edge(spread: float) -> float:
    """What an edge tells that lies on the grid of the bit time, in bits.

    Args:
        spread: The standard deviation of edges from the grid, in bit times. Edges at any time have 1/sqrt(12).
    """
    return float(np.clip(np.log2(1 / np.sqrt(12) / max(spread, 1e-6)), 0.0, MOST_OF_AN_EDGE))


def different(rows: npt.NDArray[np.generic]) -> int:
    """How many different cases there are beside the first, which every reading needs to know its settings.

    Args:
        rows: A number for each case, shape (n,).
    """
    return max(len(np.unique(rows)) - 1, 0)


def different_frames(frames: FrameBatch) -> int:
    """How many of some frames differ from all before in what they are and carry. With checks of their own the first
    one counts, too."""
    return len(np.unique(prints_of(frames)))
