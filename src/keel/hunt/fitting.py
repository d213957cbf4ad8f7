"""Straight lines through a few points, some of which may be wrong: value = raw × scale + offset.

What a person reads off a display is rounded, late by a time that varies, and now and then misread. So each point
has its own spread: half a step of rounding, and as much as the field itself moves within a few tenths of a second.
A fit is as good as the points' likelihood under it, against their likelihood if the field told nothing.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt
from numba import njit

Floats = npt.NDArray[np.float64]

DROP_COST = 4.0
"""What leaving out a point costs, in nats: one reading in fifteen is wrong, and a wrong one says nothing."""
AGAIN_COST = 1.5
"""What each after the first costs more."""
LINE_COST = 1.0


@njit(cache=True, nogil=True)
def _line(x: Any, y: Any, w: Any, used: Any) -> Any:
    """Weighted least squares about the means: slope, intercept, weighted residual and total squares, weights."""
    total = sx = sy = 0.0
    for i in range(len(x)):
        if used[i]:
            total += w[i]
            sx += w[i] * x[i]
            sy += w[i] * y[i]
    mx, my = sx / total, sy / total
    xx = xy = yy = 0.0
    for i in range(len(x)):
        if used[i]:
            dx, dy = x[i] - mx, y[i] - my
            xx += w[i] * dx * dx
            xy += w[i] * dx * dy
            yy += w[i] * dy * dy
    if xx <= 0.0:
        return 0.0, my, yy, yy, total
    slope = xy / xx
    return slope, my - slope * mx, max(yy - slope * xy, 0.0), yy, total


@njit(cache=True, nogil=True)
def _judge(x: Any, y: Any, around: Any, floor: Any, used: Any, w: Any, out: Any) -> Any:
    """How well each point used is foretold by the others' line, against their mean: a log likelihood ratio.

    Foretold, not fitted: a line through one far point fits it exactly and proves nothing. ``out`` gets slope,
    intercept and the spread beyond what is expected.
    """
    n = len(x)
    count = 0
    for i in range(n):
        w[i] = 1.0
        count += used[i]
    slope, start, _, total_squares, _ = _line(x, y, w, used)
    # A mean foretells a point with its distance times n / (n - 1).
    plain = total_squares / max(count, 1) * (count / max(count - 1.0, 1.0)) ** 2
    out[0], out[1], out[2] = 0.0, start, 1.0
    if plain <= floor * floor or count < 3 or slope == 0.0:
        return -1e9
    for _ in range(2):
        for i in range(n):
            w[i] = 1.0 / (floor * floor + slope * slope * around[i] * around[i])
        slope, start, _, _, total = _line(x, y, w, used)
    mx = 0.0
    for i in range(n):
        if used[i]:
            mx += w[i] * x[i]
    mx /= total
    xx = 0.0
    for i in range(n):
        if used[i]:
            xx += w[i] * (x[i] - mx) ** 2
    squares = 0.0
    logs = 0.0
    for i in range(n):
        if used[i]:
            leverage = w[i] / total + (w[i] * (x[i] - mx) ** 2 / xx if xx > 0.0 else 0.0)
            # The line of the others is this much surer of the point; never less sure than their mean.
            sure = max(1.0 - leverage, min(1.0, 1.0 / (plain * w[i])))
            residual = y[i] - start - slope * x[i]
            squares += w[i] * residual * residual / sure
            logs += np.log(plain * w[i] * sure)
    spread = max(squares / count, 1.0)
    out[0], out[1], out[2] = slope, start, spread
    return 0.5 * (logs - count * np.log(spread) + count - squares / spread) - LINE_COST


@njit(cache=True, nogil=True)
def _agreeing(x: Any, y: Any, around: Any, floor: Any, used: Any) -> None:
    """The points that the line through some two of them explains, of all pairs the one with most; into ``used``."""
    n = len(x)
    best, best_missed, best_slope, best_start = 0, 1e300, 0.0, 0.0
    for i in range(n):
        for j in range(i + 1, n):
            if x[i] == x[j]:
                continue
            slope = (y[j] - y[i]) / (x[j] - x[i])
            if slope == 0.0:
                continue
            start = y[i] - slope * x[i]
            count, missed = 0, 0.0
            for k in range(n):
                away = y[k] - start - slope * x[k]
                unlikely = away * away / (floor * floor + slope * slope * around[k] * around[k])
                if unlikely < 12.0:
                    count += 1
                    missed += unlikely
            if count > best or (count == best and missed < best_missed):
                best, best_missed, best_slope, best_start = count, missed, slope, start
    for k in range(n):
        away = y[k] - best_start - best_slope * x[k]
        used[k] = away * away < 12.0 * (floor * floor + best_slope * best_slope * around[k] * around[k])


@njit(cache=True, nogil=True)
def robust_lines(x: Any, around: Any, y: Any, floor: Any, most_dropped: Any) -> Any:
    """The best line for each row of ``x``, with up to so many points left out.

    Args:
        x: Raw values, shape (rows, n).
        around: How much the raw value moves about each point, shape (rows, n).
        y: What was observed, shape (n,).
        floor: Least spread of a point.
        most_dropped: How many points may be wrong.

    Returns:
        Shape (rows, 5): score in nats, slope, intercept, spread beyond what is expected (1 or more, squared),
        points dropped as a bit mask.
    """
    rows, n = x.shape
    found = np.zeros((rows, 5))
    used = np.ones(n, np.int64)
    w = np.ones(n)
    out = np.zeros(3)
    for r in range(rows):
        used[:] = 1
        best = _judge(x[r], y, around[r], floor, used, w, out)
        found[r, 0], found[r, 1], found[r, 2], found[r, 3], found[r, 4] = best, out[0], out[1], out[2], 0
        mask = 0
        if most_dropped:
            _agreeing(x[r], y, around[r], floor, used)
            outside = n - used.sum()
            if 0 < outside <= most_dropped:
                score = (
                    _judge(x[r], y, around[r], floor, used, w, out) - DROP_COST * outside - AGAIN_COST * (outside - 1)
                )
                if score > best:
                    best = score
                    found[r, 0], found[r, 1], found[r, 2], found[r, 3] = score, out[0], out[1], out[2]
                    for i in range(n):
                        if not used[i]:
                            mask |= 1 << i
                    found[r, 4] = mask
            used[:] = 1
            mask = 0
        for dropped in range(1, min(most_dropped, 2) + 1):
            chosen, chosen_score = -1, -1e18
            for i in range(n):
                if not used[i]:
                    continue
                used[i] = 0
                score = _judge(x[r], y, around[r], floor, used, w, out)
                if score > chosen_score:
                    chosen, chosen_score = i, score
                used[i] = 1
            if chosen < 0:
                break
            used[chosen] = 0
            mask |= 1 << chosen
            score = _judge(x[r], y, around[r], floor, used, w, out) - DROP_COST * dropped - AGAIN_COST * (dropped - 1)
            if score > best:
                best = score
                found[r, 0], found[r, 1], found[r, 2], found[r, 3] = score, out[0], out[1], out[2]
                found[r, 4] = mask
    return found


def rounding_of(values: Floats) -> float:
    """To what step values are rounded: the coarsest of 1, 2, 5 × 10^k that nearly all are multiples of.

    At least a millionth of their range, so that exact values have a spread too.
    """
    reach = float(values.max() - values.min()) if len(values) else 0.0
    least = max(reach, float(np.abs(values).max(initial=0.0)) * 1e-3, 1e-9) * 1e-6
    # One in four may be a slip of the pen.
    others = len(values) // 4 if len(values) > 4 else 0
    for power in range(12, -13, -1):
        for digit in (5.0, 2.0, 1.0):
            step = digit * 10.0**power
            away = np.abs(values / step - np.rint(values / step)) > 1e-6
            if step <= max(reach, least) and np.count_nonzero(away) <= others:
                return max(step, least)
            if step < least:
                return least
    return least
