"""The fit of every field there could be: each start, length, byte order and sign, against values at the same moments.

A field is a sum of bits with power-of-two weights. Its sums with itself and with the evidence follow from those of
single bits, and those of a field one bit longer from those of the shorter one: nothing is fitted twice.

Values of a field that hovers about a power of two have great bits that cancel out. So bits are counted in whole
numbers, products with powers of two are exact, and sums are kept in two doubles (Knuth's two-sum): what is lost is
less than 1e-25 of the greatest term. Source: D. Knuth, The Art of Computer Programming, volume 2, 4.2.2, theorem B.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
from numba import njit

from keel.model.fields import BitField
from keel.model.frames import Bytes

LONGEST = 32
_SPLITTER = 134217729.0
"""2**27 + 1: cuts a double in two halves that multiply exactly. Source: T. Dekker, 1971."""

Floats = npt.NDArray[np.float64]


@njit(cache=True, nogil=True, inline="always")
def _add(high: Any, low: Any, term: Any) -> Any:
    """Two doubles and one more, as two."""
    total = high + term
    shadow = total - high
    rest = (high - (total - shadow)) + (term - shadow)
    return total, low + rest


@njit(cache=True, nogil=True, inline="always")
def _times(a: Any, b: Any) -> Any:
    """A product of two doubles as two, exact."""
    product = a * b
    a1 = _SPLITTER * a
    a1 = a1 - (a1 - a)
    a2 = a - a1
    b1 = _SPLITTER * b
    b1 = b1 - (b1 - b)
    b2 = b - b1
    return product, ((a1 * b1 - product) + a1 * b2 + a2 * b1) + a2 * b2


@njit(cache=True, nogil=True)
def _centred(
    ones: Any, both: Any, n: Any, yes: Any, yes_low: Any, y: Any, y_low: Any, with_y: Any, with_y_low: Any
) -> None:
    """n Σbb' − Σb Σb' of each pair of bits, whole numbers; n Σby − Σb Σy of each bit, as two doubles."""
    for i in range(len(ones)):
        for j in range(len(ones)):
            both[i, j] = n * both[i, j] - ones[i] * ones[j]
        high, low = _times(np.float64(n), yes[i])
        low += n * yes_low[i]
        other, other_low = _times(np.float64(ones[i]), y)
        high, low = _add(high, low, -other)
        low -= other_low + ones[i] * y_low
        with_y[i], with_y_low[i] = high, low


@njit(cache=True, nogil=True)
def _sums(bits: Any, values: Any, yes: Any, yes_low: Any) -> Any:
    """Σy where each bit is set, and over all, as two doubles."""
    high, low = 0.0, 0.0
    for i in range(len(values)):
        high, low = _add(high, low, values[i])
        for b in range(bits.shape[1]):
            if bits[i, b]:
                yes[b], yes_low[b] = _add(yes[b], yes_low[b], values[i])
    return high, low


@njit(cache=True, nogil=True)
def _walk(both: Any, with_y: Any, with_y_low: Any, yy: Any, last: Any, slopes: Any, fits: Any) -> None:
    """All fields of an identifier: ``slopes`` and ``fits`` of shape (bits, 2, last, 2) by start, order, length, sign.

    A little-endian field grows upward from its start; a big-endian one downward, through each byte and on to the next:
    both are walked from their least significant bit upward, and a big-endian field is told by its most significant.
    """
    bits = len(both)
    places = np.zeros(last, np.int64)
    for order in range(2):
        for first in range(bits):
            var, var_low = 0.0, 0.0
            cov, cov_low = 0.0, 0.0
            place = first
            for length in range(1, last + 1):
                if order == 0:
                    place = first + length - 1
                elif length > 1:
                    place = place + 1 if place % 8 != 7 else place - 15
                if place >= bits or place < 0:
                    break
                places[length - 1] = place
                weight = 2.0 ** (length - 1)
                # What the new bit has in common with the field so far.
                common, common_low = 0.0, 0.0
                for k in range(length - 1):
                    common, common_low = _add(common, common_low, both[places[k], place] * 2.0**k)
                own = weight * weight * both[place, place]
                name = first if order == 0 else place
                for sign in range(2):
                    # The highest bit of a signed number counts less than nothing.
                    w = -weight if sign else weight
                    v, v_low = _add(var, var_low, own)
                    v, v_low = _add(v, v_low, 2.0 * w * common)
                    v_low += 2.0 * w * common_low
                    c, c_low = _add(cov, cov_low, w * with_y[place])
                    c_low += w * with_y_low[place]
                    whole = v + v_low
                    if whole > 0:
                        slopes[name, order, length - 1, sign] = (c + c_low) / whole
                        fits[name, order, length - 1, sign] = (c + c_low) * ((c + c_low) / whole) / yy
                    if sign == 0:
                        var_next, var_low_next, cov_next, cov_low_next = v, v_low, c, c_low
                var, var_low, cov, cov_low = var_next, var_low_next, cov_next, cov_low_next


@dataclass(frozen=True, eq=False)
class Windows:
    """The fits of all fields of an identifier: arrays of shape (bits, 2 orders, lengths, 2 signs).

    Named by start bit, order (0 little, 1 big), length - 1, sign (0 unsigned, 1 signed).

    Attributes:
        slopes: Value = slope × raw + offset, by least squares; 0 where a field does not move.
        fits: Squared correlation; 0 where a field does not move, or does not lie in the payload.
    """

    slopes: Floats
    fits: Floats

    @property
    def count(self) -> int:
        """How many fields move."""
        return int(np.count_nonzero(self.fits))

    def best(self, most: int) -> list[tuple[BitField, float, float]]:
        """The best fields with their slope and fit. Of equal ones (of unmoved high bits) the shortest, unsigned."""
        found: list[tuple[BitField, float, float]] = []
        order = np.argsort(-self.fits, axis=None, kind="stable")[: 4096 * most]
        rounded = np.round(self.fits.ravel()[order], 12)
        places = np.stack(np.unravel_index(order, self.fits.shape), axis=1)
        ranked = np.lexsort((places[:, 3], places[:, 2], -rounded))
        for start, way, length, sign in places[ranked].tolist():
            fit = float(self.fits[start, way, length, sign])
            if fit <= 0 or len(found) >= most:
                break
            field = BitField(start, length + 1, "big" if way else "little", bool(sign))
            if any(abs(f - fit) < 1e-12 and set(g.bits) & set(field.bits) for g, _, f in found):
                continue
            found.append((field, float(self.slopes[start, way, length, sign]), fit))
        return found


def fit_windows(payloads: Bytes, values: Floats, longest: int = LONGEST) -> Windows:
    """Fit every field of payloads to values.

    Args:
        payloads: Shape (n, bytes), the payload at the moment of each value.
        values: Shape (n,).
        longest: Of how many bits a field has at most.
    """
    n, size = payloads.shape
    count = size * 8
    shape = (count, 2, min(longest, max(count, 1)), 2)
    slopes, fits = np.zeros(shape), np.zeros(shape)
    if n < 3 or not count:
        return Windows(slopes, fits)
    # Moved by a constant nothing changes but the size of the sums; by one of the values it costs no accuracy.
    shifted = values - values[0]
    bits = np.unpackbits(payloads, axis=1, bitorder="little")
    plain = bits.astype(np.float64)
    # Counts of ones: exact in doubles up to 2**53.
    both, ones = plain.T @ plain, plain.sum(axis=0)
    yes, yes_low, with_y, with_y_low = np.zeros((4, count))
    y, y_low = _sums(bits, shifted, yes, yes_low)
    _centred(ones, both, n, yes, yes_low, y, y_low, with_y, with_y_low)
    yy = n * float(((shifted - shifted.mean()) ** 2).sum())
    if yy > 0:
        # Everything stands n² times too great, and so divides out.
        _walk(both, with_y, with_y_low, yy, shape[2], slopes, fits)
    return Windows(slopes, fits)
