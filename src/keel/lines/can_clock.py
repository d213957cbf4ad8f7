"""The bit rates of CAN as frames show them: falling edges inside frames lie whole bits apart, in the part before the
data at one rate, in the data of CAN FD at the other.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from keel.lines.can_wave import CanRates, CanSent
from keel.lines.timing import falls_of
from keel.model.frames import Flag
from keel.model.identity import Form
from keel.model.waveform import Logic

Floats = npt.NDArray[np.float64]
HEAD_BITS, TAIL_BITS = 11.5, 13.0
"""In bits: so far from the start of a frame all is at the slow rate, whatever frame it is; and its end is, too."""
TO_DATA = {Form.BASE: 21.0, Form.EXTENDED: 44.0}
"""In bits, stuff bits included: behind so many the faster part has begun for sure."""
NEAR, FEWEST, LONGEST = 0.3, 12, 12.5
"""Distances are used that are so near a whole number of bits; so many of them tell; longer ones say little."""


def measured(line: Logic, sent: CanSent, rates: CanRates) -> CanRates:
    """The rates that the good frames of a line have; as they were where there are too few edges to tell.

    Args:
        line: A line that rests high.
        sent: What was read of it.
        rates: At about these rates.
    """
    good = sent.good & (sent.form != 255)
    if not good.any():
        return rates
    falls = falls_of(line).astype(np.float64)
    starts, ends = sent.starts[good].astype(np.float64), sent.ends[good].astype(np.float64)
    slow = 1e9 / rates.slow
    unit = _unit(falls, starts - 1, starts + HEAD_BITS * slow, slow)
    is_fast = (sent.flags[good] & Flag.BRS) != 0
    if not rates.fast or not is_fast.any():
        return CanRates(1e9 / unit, rates.fast, rates.turn_ns)
    ahead = np.where(sent.form[good] == Form.BASE, TO_DATA[Form.BASE], TO_DATA[Form.EXTENDED]) * slow
    fast = _unit(falls, (starts + ahead)[is_fast], (ends - TAIL_BITS * slow)[is_fast], 1e9 / rates.fast)
    return CanRates(1e9 / unit, 1e9 / fast, rates.turn_ns)


def _unit(falls: Floats, begins: Floats, ends: Floats, about: float) -> float:
    """How long a bit is in some spans, in ns, by the distances of falling edges; ``about`` where these do not tell."""
    distances = _within(falls, begins, ends)
    unit = about
    for longest in (LONGEST / 3, LONGEST, LONGEST):
        bits = np.rint(distances / unit)
        used = (bits >= 2) & (bits <= longest) & (np.abs(distances / unit - bits) < NEAR)
        if used.sum() < FEWEST:
            continue
        unit = float((distances[used] * bits[used]).sum() / (bits[used] ** 2).sum())
    return unit


def _within(falls: Floats, begins: Floats, ends: Floats) -> Any:
    """Distances of falling edges one after another that both lie in one of some spans, in order."""
    place = np.searchsorted(begins, falls, side="right") - 1
    inside = (place >= 0) & (falls < ends[np.maximum(place, 0)])
    both = inside[1:] & inside[:-1] & (place[1:] == place[:-1])
    return (falls[1:] - falls[:-1])[both]
