"""Field boundaries: of all ways to cut a payload into fields, the one that says its changes in the fewest bits.

A number moves in steps: written as one field, a change is one small difference. Cut in two, the upper part's steps
must be told as well as the lower part's wrapping round; two fields taken for one pay for each change of the upper
with the whole length of the lower. So every field that is possible (each start, length and byte order) is given
its price, the bits that an ideal code needs for its differences, and the cheapest tiling of the payload is found
by a shortest path over the bytes. Differences are taken modulo the field's size: the price does not depend on the
sign. Bits that never move belong to no field unless they lie inside one.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from keel.hunt.transitions import Transitions
from keel.model.fields import BitField, Order
from keel.model.frames import Mask
from keel.model.words64 import leading_zeros

LONGEST = 32
FIELD_PRICE = 4.0
"""What naming one more field costs, in bits."""
RESTLESS_LENGTH = 3
RESTLESS = 0.06
"""Fields this short that change all the time are mostly the low bits of a number: what each change costs extra."""
RESTLESS_SHARE = 0.3
RESTLESS_PRICE = 12.0
"""The same for a field whose highest bit flips in so many of the frames, and what it costs once."""
CLASSES = 4 * (LONGEST + 2)


def cut(steps: Transitions, usable: Mask) -> list[BitField]:
    """The fields of a payload.

    Args:
        steps: Its changes.
        usable: Which bits may belong to fields, shape (8 × bytes,): those that move and are not spoken for.

    Returns:
        Fields that do not overlap and hold every usable bit; the byte order of one inside a byte is ``little``.
    """
    size = steps.before.shape[1]
    if not usable.any() or not len(steps.before):
        return []
    padded = size + 16
    before, after = np.zeros((2, len(steps.before), padded), np.uint8)
    before[:, 8 : 8 + size], after[:, 8 : 8 + size] = steps.before, steps.after
    prices = _prices(before, after, steps.still, usable, size, LONGEST)
    found = _cheapest(prices, usable, size, LONGEST)
    fields = []
    for start, length, way in found.tolist():
        order: Order = "big" if way else "little"
        fields.append(_field(start, length, order))
    return sorted(fields, key=lambda f: min(f.bits))


def _field(low: int, length: int, order: Order) -> BitField:
    """The field whose lowest bit is ``low``; inside one byte both orders say the same."""
    if low % 8 + length <= 8:
        return BitField(low, length)
    top = BitField(low, 1, order).longer(length - 1)
    assert top is not None
    return top


@njit(cache=True, nogil=True)
def _words(rows: Any, byte: Any, way: Any, out: Any) -> None:
    """Five bytes of each payload from ``byte`` on (little) or up to it (big), the first of them lowest."""
    for i in range(len(rows)):
        value = np.uint64(0)
        for k in range(5):
            at = byte - k if way else byte + k
            value |= np.uint64(rows[i, 8 + at]) << np.uint64(8 * k)
        out[i] = value


@njit(cache=True, nogil=True)
def _prices(before: Any, after: Any, still: Any, usable: Any, size: Any, longest: Any) -> Any:
    """Price of each field by lowest bit, length and order; shape (bits, longest + 1, 2)."""
    bits = size * 8
    count = len(before)
    total = count + still
    prices = np.full((bits, longest + 1, 2), 1e18)
    bins = np.zeros((longest + 1, CLASSES), np.int64)
    flips = np.zeros(bits, np.int64)
    for i in range(count):
        for byte in range(size):
            moved = before[i, 8 + byte] ^ after[i, 8 + byte]
            if moved:
                for bit in range(8):
                    flips[byte * 8 + bit] += moved >> bit & 1
    tops = np.zeros(longest + 1, np.int64)
    old, new = np.zeros(count, np.uint64), np.zeros(count, np.uint64)
    wanted = np.zeros(longest + 1, np.int64)
    for way in range(2):
        for start in range(bits):
            if start % 8 == 0:
                _words(before, start // 8, way, old)
                _words(after, start // 8, way, new)
            if not usable[start]:
                continue
            # The lengths whose highest bit moves; inside one byte both orders are the same.
            lengths = 0
            top = start
            for length in range(1, longest + 1):
                if length > 1:
                    top += -15 if way == 1 and top % 8 == 7 else 1
                if top < 0 or top >= bits:
                    break
                if usable[top] and (way == 0 or top // 8 != start // 8):
                    wanted[lengths] = length
                    tops[lengths] = top
                    lengths += 1
            shift = np.uint64(start % 8)
            bins[:] = 0
            for i in range(count):
                change = (new[i] >> shift) - (old[i] >> shift)
                if change == 0:
                    continue
                for k in range(lengths):
                    length = wanted[k]
                    room = np.uint64(64 - length)
                    step = np.int64(change << room) >> np.int64(room)
                    if step == 0:
                        continue
                    negative = step < 0 and length > 1
                    magnitude = np.uint64(-step if step < 0 else step)
                    width = 64 - leading_zeros(magnitude)
                    # Two classes an octave: the bit below the highest tells which.
                    half = np.int64(magnitude >> np.uint64(width - 2)) & 1 if width > 1 else 0
                    bins[length, 4 * np.int64(width) + 2 * half + (1 if negative else 0)] += 1
            for k in range(lengths):
                prices[start, wanted[k], way] = _price(bins[wanted[k]], total, wanted[k], flips[tops[k]])
    return prices


@njit(cache=True, nogil=True)
def _price(bins: Any, total: Any, length: Any, top_flips: Any) -> Any:
    """Bits of an adaptive code for the classes, and of the places within them: in halves of octaves or in whole
    ones, whichever is cheaper."""
    moved = 0
    inner = 0.0
    fine = coarse = 0.0
    fine_classes = coarse_classes = 0
    for k in range(0, 4 * length + 4, 4):
        for sign in range(2):
            low, high = bins[k + sign], bins[k + 2 + sign]
            both = low + high
            if both == 0:
                continue
            moved += both
            inner += both * max(k // 4 - 2, 0)
            coarse += both * (np.log2(total / both) + (1 if k > 4 else 0))
            coarse_classes += 1
            for count in (low, high):
                if count:
                    fine += count * np.log2(total / count)
                    fine_classes += 1
    if moved == 0:
        return 1e18
    per_class = 0.5 * np.log2(total)
    price = inner + FIELD_PRICE + min(fine + per_class * fine_classes, coarse + per_class * coarse_classes)
    if total > moved:
        price += (total - moved) * np.log2(total / (total - moved))
    if length <= RESTLESS_LENGTH:
        price += RESTLESS * moved
    # Numbers seldom go round: where the highest bit moves all the time, a part is missing above it.
    if top_flips > RESTLESS_SHARE * total:
        price += RESTLESS_PRICE + RESTLESS * moved
    return price


@njit(cache=True, nogil=True)
def _inside(prices: Any, usable: Any, byte: Any, low: Any, high: Any, cuts: Any) -> Any:
    """The cheapest cut of bits ``low`` to ``high - 1`` of one byte; ``cuts`` gets each field's length by its top."""
    best = np.full(9, 1e18)
    best[low] = 0.0
    for top in range(low + 1, high + 1):
        cuts[top] = 0
        if not usable[byte * 8 + top - 1]:
            best[top] = best[top - 1]
            continue
        for length in range(1, top - low + 1):
            start = top - length
            if not usable[byte * 8 + start]:
                continue
            price = best[start] + prices[byte * 8 + start, length, 0]
            if price < best[top]:
                best[top] = price
                cuts[top] = length
    return best[high]


@njit(cache=True, nogil=True)
def _cheapest(prices: Any, usable: Any, size: Any, longest: Any) -> Any:
    """Shortest path over the bytes; rows of (lowest bit, length, order).

    A state is a byte and what of it is already taken: ``j`` low bits by a little-endian field that began before,
    ``k`` high bits by a big-endian one.
    """
    states = 81
    best = np.full((size + 1, states), 1e18)
    best[0, 0] = 0.0
    came = np.full((size + 1, states, 8), -1, np.int64)
    cuts = np.zeros(9, np.int64)
    for byte in range(size):
        for j in range(9):
            for k in range(9 - j):
                here = best[byte, j * 9 + k]
                if here >= 1e18:
                    continue
                # a: where a little-endian field that leaves the byte begins; 8 for none.
                # b: how many low bits a big-endian field that leaves the byte takes; 0 for none.
                for a in range(j, 9):
                    if a < 8 and (k > 0 or byte + 1 >= size or not usable[byte * 8 + a]):
                        continue
                    for b in range(0, 9):
                        if b > 0 and (j > 0 or byte + 1 >= size or not usable[byte * 8 + b - 1]):
                            continue
                        low = max(j, b)
                        high = min(a, 8 - k)
                        if low > high:
                            continue
                        inner = here + _inside(prices, usable, byte, low, high, cuts)
                        if inner >= 1e18:
                            continue
                        if a == 8 and b == 0:
                            _step(best, came, byte + 1, 0, 0, inner, byte, j * 9 + k, low, high, -1, 0, -1, 0)
                            continue
                        # Where the little-endian one ends: byte + 1 + more, with q bits of that byte.
                        for more in range(0, 4 if a < 8 else 1):
                            for q in range(1 if a < 8 else 0, 9 if a < 8 else 1):
                                price_a = 0.0
                                length_a = 0
                                if a < 8:
                                    length_a = 8 - a + 8 * more + q
                                    if byte + 1 + more >= size or length_a > longest:
                                        continue
                                    price_a = prices[byte * 8 + a, length_a, 0]
                                    if price_a >= 1e18:
                                        continue
                                for more_b in range(0, 4 if b > 0 else 1):
                                    if a < 8 and b > 0 and (more > 0 or more_b > 0):
                                        continue
                                    for r in range(1 if b > 0 else 0, 9 if b > 0 else 1):
                                        if a < 8 and b > 0 and q + r > 8:
                                            continue
                                        price_b = 0.0
                                        length_b = 0
                                        low_b = -1
                                        if b > 0:
                                            length_b = b + 8 * more_b + r
                                            if byte + 1 + more_b >= size or length_b > longest:
                                                continue
                                            low_b = (byte + 1 + more_b) * 8 + 8 - r
                                            price_b = prices[low_b, length_b, 1]
                                            if price_b >= 1e18:
                                                continue
                                        to = byte + 1 + max(more, more_b)
                                        _step(
                                            best,
                                            came,
                                            to,
                                            q,
                                            r,
                                            inner + price_a + price_b,
                                            byte,
                                            j * 9 + k,
                                            low,
                                            high,
                                            byte * 8 + a if a < 8 else -1,
                                            length_a,
                                            low_b,
                                            length_b,
                                        )
    found = []
    byte, state = size, 0
    while byte > 0:
        row = came[byte, state]
        from_byte, from_state = row[0], row[1]
        if row[4] >= 0:
            found.append((row[4], row[5], 0))
        if row[6] >= 0:
            found.append((row[6], row[7], 1))
        _inside(prices, usable, from_byte, row[2], row[3], cuts)
        top = row[3]
        while top > row[2]:
            if cuts[top]:
                found.append((from_byte * 8 + top - cuts[top], cuts[top], 0))
                top -= cuts[top]
            else:
                top -= 1
        byte, state = from_byte, from_state
    out = np.zeros((len(found), 3), np.int64)
    for i in range(len(found)):
        out[i, 0], out[i, 1], out[i, 2] = found[i]
    return out


@njit(cache=True, nogil=True)
def _step(
    best: Any,
    came: Any,
    to: Any,
    j: Any,
    k: Any,
    price: Any,
    byte: Any,
    state: Any,
    low: Any,
    high: Any,
    start_a: Any,
    length_a: Any,
    start_b: Any,
    length_b: Any,
) -> None:
    at = j * 9 + k
    if price < best[to, at]:
        best[to, at] = price
        row = came[to, at]
        row[0], row[1], row[2], row[3] = byte, state, low, high
        row[4], row[5], row[6], row[7] = start_a, length_a, start_b, length_b
