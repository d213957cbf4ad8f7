"""Carriers made up for marks: what a field that follows them would score in this recording.

Each does what a press can do, marked as people mark, and now and then when nobody marked it.
"""

from __future__ import annotations

import numpy as np

from keel.hunt.carriers import Carrier
from keel.hunt.placements import Marked
from keel.hunt.shapes import fits_of
from keel.hunt.states import State
from keel.hunt.structure import Piece
from keel.model.fields import BitField

OF_EACH = 24
OFF_S = 0.5
FORGOTTEN = 0.05
"""How often a mark stands where nothing was done."""
UNMARKED = 0.4
"""How often there were presses that nobody marked."""
APART_S, ABOUT_S = 1.5, 20.0
PULSE_S = (0.05, 0.3)

Floats = np.ndarray[tuple[int, ...], np.dtype[np.float64]]


def imagined_scores(marked: Marked, cycle_s: float) -> Floats:
    """The scores of made-up carriers: those held, those that flip, and those that stand for a moment.

    Args:
        marked: The marks.
        cycle_s: How often frames are sent.

    Returns:
        Nats, shape (3 × `OF_EACH`,).
    """
    random = np.random.default_rng(11)
    cycle = min(cycle_s, 0.5)
    times = (np.arange(0, marked.length, max(cycle, marked.length / 4000)) * 1e9).astype(np.int64)
    carrier = Carrier(0, Piece(BitField(0, 1), "flag"), times, np.zeros(len(times), np.int64))
    scores = []
    for shape in ("hold", "flip", "pulse"):
        for _ in range(OF_EACH):
            turns = _turns(random, marked, shape)
            fits = fits_of(State(carrier, "", turns, False), marked)
            scores.append(max((fit.nats for fit in fits), default=0.0))
    return np.array(scores)


def _turns(random: np.random.Generator, marked: Marked, shape: str) -> Floats:
    """When such a carrier comes and goes."""
    low, high = marked.starts[0].copy(), marked.ends[0].copy()
    done = random.random(len(low)) >= FORGOTTEN
    if not done.any():
        done[:] = True
    low, high = low[done], high[done]
    if random.random() < UNMARKED:
        more = int(random.integers(1, len(low) + 1))
        first, end = max(low[0] - ABOUT_S, 0.0), min(high[-1] + ABOUT_S, marked.length)
        at = random.uniform(first, max(end, first), more)
        until = at + float((high - low).mean())
        # Nobody presses twice at once: only where there is room between the marks.
        free = ((until[:, None] + APART_S < low) | (at[:, None] - APART_S > high)).all(axis=1)
        low, high = np.concatenate([low, at[free]]), np.concatenate([high, until[free]])
    low, high = (x + random.uniform(-OFF_S, OFF_S, len(x)) for x in (low, high))
    high = np.maximum(high, low + 0.1)
    if shape == "flip":
        return np.asarray(np.sort(low))
    if shape == "pulse":
        low = low + random.uniform(0, 1, len(low)) * np.maximum(high - low, 0)
        high = low + random.uniform(*PULSE_S, len(low))
    return np.asarray(np.sort(np.concatenate([low, high])))
