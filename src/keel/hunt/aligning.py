"""A series against fields at every offset of its clock: correlations by the fast Fourier transform.

Both are put on a grid of even steps. Sums of products at all offsets are cross-correlations; where the series, moved
by an offset, reaches beyond the traffic, only what both have counts.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from keel.hunt.carriers import Carrier
from keel.model.units import NS_PER_S

FINEST_S, MOST_STEPS = 0.1, 9000
SHARED = 0.5
"""At an offset that leaves less of the series than this beside the traffic, nothing is compared."""

Floats = npt.NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Aligner:
    """A series and the same moved or altered, ready to be held against fields.

    Attributes:
        start: Of the series, ns.
        step_s: Of the grid.
        rows: The series on the grid and then what chance is told by, shape (1 + n, steps), each about its mean.
        within: So many steps of offset to either side.
        low, high: Of the traffic, in steps from the series' start.
    """

    start: int
    step_s: float
    rows: Floats
    within: int
    low: int
    high: int

    @property
    def offsets(self) -> Floats:
        """Offsets in seconds, ascending; shape (2 × within + 1,)."""
        return np.arange(-self.within, self.within + 1).astype(np.float64) * self.step_s

    @property
    def _steps(self) -> int:
        return int(self.rows.shape[1])

    @cached_property
    def _size(self) -> int:
        """A length that is transformed fast: few times a power of two."""
        least = self._steps + 2 * self.within
        best = 1 << least.bit_length()
        for odd in (3, 5, 9, 15):
            power = odd
            while power < least:
                power *= 2
            best = min(best, power)
        return best

    @cached_property
    def _spectra(self) -> tuple[npt.NDArray[np.complex128], npt.NDArray[np.complex128], npt.NDArray[np.complex128]]:
        """Of the rows, of their squares, and of ones in their place, conjugate."""
        rows = np.conj(np.fft.rfft(self.rows, self._size, axis=1))
        squares = np.conj(np.fft.rfft(self.rows**2, self._size, axis=1))
        ones = np.conj(np.fft.rfft(np.ones(self._steps), self._size))
        return rows, squares, ones

    @cached_property
    def _mask(self) -> Floats:
        """Where there is traffic: on the fields' grid, which begins ``within`` steps before the series."""
        places = np.arange(self._steps + 2 * self.within) - self.within
        return ((places >= self.low) & (places <= self.high)).astype(np.float64)

    def _crossed(self, conjugates: npt.NDArray[np.complex128], x: Floats) -> Floats:
        """Sums of products at each offset; the last axis goes from the greatest offset to the least."""
        spectrum = np.fft.rfft(x, self._size)
        return np.fft.irfft(conjugates * spectrum, self._size)[..., : 2 * self.within + 1]

    @cached_property
    def _shared(self) -> tuple[Floats, Floats]:
        """How many steps are shared at each offset, and what the rows spread there times that."""
        rows, squares, ones = self._spectra
        count = np.maximum(np.rint(self._crossed(ones, self._mask)), 1)
        sums = self._crossed(rows, self._mask)
        return count, np.maximum(self._crossed(squares, self._mask) * count - sums**2, 1e-9)

    def fits(self, carrier: Carrier) -> Floats:
        """Squared correlation of a field with each row at each offset, ascending; shape (1 + n, offsets)."""
        places = np.arange(self._steps + 2 * self.within) - self.within
        first = (carrier.times[0] - self.start) / NS_PER_S / self.step_s
        moments = first + (carrier.times - carrier.times[0]) / NS_PER_S / self.step_s
        x = np.interp(places, moments, carrier.values)
        x = (x - x.mean()) / (x.std() or 1.0) * self._mask
        rows, _, ones = self._spectra
        count, spread = self._shared
        sums = self._crossed(ones, x)
        own = np.maximum(self._crossed(ones, x**2) * count - sums**2, 0.0)
        products = self._crossed(rows, x) * count - sums * self._crossed(rows, self._mask)
        usable = (own > 1e-6 * count**2) & (count >= SHARED * self._steps)
        found = np.where(usable, products**2 / np.maximum(own * spread, 1e-12), 0.0)
        return np.asarray(np.clip(found, 0, 1)[:, ::-1])


def grid_of(times: npt.NDArray[np.int64], values: Floats) -> tuple[float, Floats]:
    """A series at even steps: how long a step is in seconds, and the values.

    Of a series too long for that the middle is taken.
    """
    seconds = (times - times[0]) / NS_PER_S
    step = max(FINEST_S, min(float(seconds[-1]) / MOST_STEPS, 5 * FINEST_S))
    most = step * MOST_STEPS
    low = max((float(seconds[-1]) - most) / 2, 0.0)
    places = np.arange(low, float(seconds[-1]) - low + step / 2, step)
    return step, np.asarray(np.interp(places, seconds, values))
