"""Moments as Line writes them: one unit of time on the whole screen, as fine as a cell of it."""

from __future__ import annotations

from dataclasses import dataclass
from math import ceil, log10

from keel.app.frame.helm import Here

UNITS = ((1e3, 1.0, "ns"), (1e6, 1e3, "µs"), (1e9, 1e6, "ms"), (float("inf"), 1e9, "s"))
"""Up to which length of the lens everything is in which unit, and how many ns that is."""
MOST_OF_A_UNIT = 100_000
"""Moments of greater numbers are told in the next unit."""
FINEST = 9


@dataclass(frozen=True)
class Clock:
    """How moments are written.

    Attributes:
        zero: What they count from, in ns.
        size: Nanoseconds of the unit.
        unit: Its name.
        decimals: How many decimals tell a tenth of a cell apart.
    """

    zero: int
    size: float
    unit: str
    decimals: int

    def number(self, time: float) -> str:
        """A moment without its unit."""
        return f"{(time - self.zero) / self.size:.{self.decimals}f}"

    def moment(self, time: float) -> str:
        """A moment."""
        return f"{self.number(time)} {self.unit}"

    def lasting(self, ns: float) -> str:
        """A length without its unit, in the unit of the moments."""
        return f"{ns / self.size:.{self.decimals}f}"


def clock_of(here: Here, across: int) -> Clock:
    """How moments are written, by the length of the lens and how far it is from zero.

    Args:
        here: The screen.
        across: Cells the lens has.
    """
    lens, zero = here.lens, here.picture.zero
    length = max(lens.end - lens.start, 1)
    farthest = max(abs(lens.start - zero), abs(lens.end - zero))
    fitting = (one for one in UNITS if length < 4 * one[0] and (farthest < MOST_OF_A_UNIT * one[1] or one is UNITS[-1]))
    _, size, unit = next(fitting)
    cell = length / max(across, 1) / 10
    finest = round(log10(size))
    decimals = min(max(ceil(log10(size / cell)), 0), finest, FINEST) if cell > 0 else finest
    return Clock(zero, size, unit, decimals)
