"""The shape of edges in volts: how fast they are, how far they go beyond their level and come back, where they rest."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from keel.model.frames import Rows, Times
from keel.model.waveform import Analog, Logic

Floats = npt.NDArray[np.float64]
MOST_EDGES, BLOCK = 20_000, 500
"""So many edges tell, evenly from all; so many are looked at together."""
BEFORE, AFTER = 80, 240
"""So many samples before an edge and behind it are looked at; where there are more, every second, or third ..."""
RESTS_FROM, RESTS_TO = 0.5, 0.9
"""A line rests on its level in this part of a pulse."""
FEWEST_AT_REST = 1


@dataclass(frozen=True, eq=False)
class Shapes:
    """Edges as they are; all of shape (n,), not a number where it cannot be told.

    Attributes:
        times: When they cross the cut, in ns.
        rises: Whether they go up.
        took: From a tenth of the swing to nine tenths, in ns.
        beyond: How far they go beyond their level, as a share of the swing.
        back: How far they come back behind it, as a share of the swing.
        rest: Where the line rests behind them, in volts.
    """

    times: Times
    rises: npt.NDArray[np.bool_]
    took: Floats
    beyond: Floats
    back: Floats
    rest: Floats


def shapes_of(
    wave: Analog,
    logic: Logic,
    which: Rows,
    low: float,
    high: float,
    progress: Callable[[], None] = lambda: None,
) -> Shapes:
    """The shapes of edges, or of so many of them.

    Args:
        wave: The volts.
        logic: The levels that they make.
        which: Of which edges, ascending, shape (n,).
        low, high: Its levels in volts.
        progress: Called now and then; what it raises gives it up.
    """
    chosen = which if len(which) <= MOST_EDGES else which[np.linspace(0, len(which) - 1, MOST_EDGES).astype(np.int64)]
    rises = chosen % 2 == logic.first
    around = np.concatenate([[wave.start], logic.edges, [wave.end]])
    edges = logic.edges
    before, after = edges[chosen] - around[chosen], around[chosen + 2] - edges[chosen]
    parts = []
    for begin in range(0, len(chosen), BLOCK):
        progress()
        mine = slice(begin, begin + BLOCK)
        parts.append(_block(wave, edges[chosen[mine]], rises[mine], before[mine], after[mine], low, high))
    columns = [np.concatenate(column) for column in zip(*parts, strict=True)] if parts else [np.zeros(0)] * 4
    return Shapes(edges[chosen], rises, *columns)


def _block(
    wave: Analog, times: Times, rises: npt.NDArray[np.bool_], before: Times, after: Times, low: float, high: float
) -> tuple[Floats, Floats, Floats, Floats]:
    swing = high - low
    usual = max(float(np.median(after)) / wave.step, 1.0)
    stride = max(int(np.ceil(usual / AFTER)), 1)
    places = (times - wave.start) / wave.step
    offsets = np.arange(-BEFORE, AFTER + 1) * stride
    at = np.floor(places).astype(np.int64)[:, None] + offsets
    known = (at >= 0) & (at < len(wave))
    volts = np.asarray(wave.samples)[np.clip(at, 0, len(wave) - 1)] * np.float64(wave.scale)
    # Each as if it went from 0 to 1.
    share = np.where(rises[:, None], volts - low, high - volts) / swing
    since = (at - places[:, None]) * wave.step
    known &= (since > -0.75 * before[:, None]) & (since < 0.85 * after[:, None])
    share = np.where(known, share, np.nan)
    took = _crossing(share, since, 0.9, True) - _crossing(share, since, 0.1, False)
    behind = np.where(since > 0, share, np.nan)
    with np.errstate(all="ignore"):
        # Nothing behind an edge is known where the recording ends.
        filled = np.where(np.isnan(behind), -np.inf, behind)
        top = np.maximum.accumulate(filled, axis=1)
        beyond = np.maximum(top[:, -1] - 1, 0)
        fallen = np.where(np.isnan(behind), 0.0, np.minimum(top, 1.0) - behind)
        back = np.where(top >= 0.9, fallen, 0.0).max(axis=1)
        back = np.where(top[:, -1] >= 0.9, back, np.nan)
        resting = known & (since > RESTS_FROM * after[:, None]) & (since < RESTS_TO * after[:, None])
        # A pulse that is longer than what is looked at rests at its end.
        long = ~resting.any(axis=1)
        resting[long] = known[long] & (since[long] > 0.5 * since[long, -1:])
        counts = resting.sum(axis=1)
        rest = np.where(resting, volts, 0.0).sum(axis=1) / counts
    beyond = np.where(np.isfinite(beyond), beyond, np.nan)
    return took, beyond, back, np.where(counts >= FEWEST_AT_REST, rest, np.nan)


def _crossing(share: Floats, since: Floats, level: float, is_behind: bool) -> Floats:
    """When each edge crosses a level, between two samples: the last time before it, or the first behind it."""
    rows = np.arange(len(share))
    with np.errstate(all="ignore"):
        if is_behind:
            meets = (share >= level) & (np.roll(share, 1, axis=1) < level) & (since > 0)
            place = meets.argmax(axis=1)
        else:
            meets = (share >= level) & (np.roll(share, 1, axis=1) < level) & (np.roll(since, 1, axis=1) <= 0)
            place = share.shape[1] - 1 - meets[:, ::-1].argmax(axis=1)
        found = meets.any(axis=1) & (place > 0)
        a, b = share[rows, place - 1], share[rows, place]
        part = np.where(b > a, (level - a) / (b - a), 0.5)
        when = since[rows, place - 1] + part * (since[rows, place] - since[rows, place - 1])
    return np.where(found, when, np.nan)
