"""How steadily each identifier is sent: usual cycle time, spread, longest gap, and who stopped."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from keel.ask.matches import Matches
from keel.model.frames import Times

FEWEST = 4
"""With fewer frames than this nothing is said about a cycle."""
GAP_FACTOR = 3.0
"""A gap of more than so many usual cycles counts as dropping out."""
STATES = ("stopped", "dropped out", "in bursts", "irregular", "steady", "too few")


@dataclass(frozen=True)
class Cycle:
    """How one identifier is sent. Times in ns.

    Attributes:
        usual: The median cycle time.
        gap: The longest time between two frames, or since the last.
        gap_at: When that gap began.
        gaps: How many gaps are longer than `GAP_FACTOR` usual cycles.
        state: One of `STATES`.
        counts: Histogram of cycle times over ``low`` to ``high``.
    """

    key: int
    usual: int
    mean: float
    deviation: float
    gap: int
    gap_at: int
    gaps: int
    state: str
    low: float
    high: float
    counts: npt.NDArray[np.int64]

    @property
    def worth_a_look(self) -> int:
        """Sort key: what is wrong first."""
        return STATES.index(self.state)


def times_by_key(matches: Matches) -> dict[int, Times]:
    """Times of the matching frames without fault, by key, in order of arrival."""
    found: dict[int, list[Times]] = {}
    for part in matches.parts:
        if not part.count:
            continue
        chunk = part.chunk
        stored = part.stored_mask()
        good = chunk.batch.faults == 0
        use = good if stored is None else good & stored
        for run, key in enumerate(chunk.run_keys.tolist()):
            low, high = int(chunk.run_starts[run]), int(chunk.run_starts[run + 1])
            times = chunk.batch.time[low:high][use[low:high]]
            if len(times):
                found.setdefault(key, []).append(times)
    return {key: np.concatenate(parts) for key, parts in sorted(found.items())}


def describe(key: int, times: Times, end: int, bins: int = 18) -> Cycle:
    """How one identifier is sent.

    Args:
        key: The identifier.
        times: Times of its frames, shape (n,).
        end: The end of what is looked at: silence up to there counts.
        bins: Cells of the histogram.
    """
    steps = np.diff(times)
    if len(times) < FEWEST:
        longest = int(steps.max()) if len(steps) else 0
        at = int(times[int(np.argmax(steps))]) if len(steps) else int(times[0])
        usual = int(np.median(steps)) if len(steps) else 0
        return Cycle(key, usual, float(usual), 0.0, longest, at, 0, "too few", 0, 0, np.zeros(bins, np.int64))
    usual = int(np.median(steps))
    mean, deviation = float(steps.mean()), float(steps.std())
    bound = max(GAP_FACTOR * usual, usual + 20_000_000)
    gaps = int(np.count_nonzero(steps > bound))
    longest = int(np.argmax(steps))
    gap, gap_at = int(steps[longest]), int(times[longest])
    silence = end - int(times[-1])
    bursty = _is_bursty(steps, usual)
    if silence > max(bound, 2 * gap, 500_000_000):
        state, gap, gap_at = "stopped", silence, int(times[-1])
    elif bursty:
        state = "in bursts"
    elif gaps:
        state = "dropped out"
    elif deviation > 0.35 * usual:
        state = "irregular"
    else:
        state = "steady"
    low, high = _histogram_range(steps, usual)
    counts, _ = np.histogram(np.clip(steps, low, high), bins, (low, high))
    return Cycle(key, usual, mean, deviation, gap, gap_at, gaps, state, low, high, counts.astype(np.int64))


def _is_bursty(steps: Times, usual: int) -> bool:
    """Several frames close together, then a rest, again and again."""
    rests = np.count_nonzero(steps > 3 * usual)
    return bool(rests >= 3 and 0.04 < rests / len(steps) < 0.5)


def _histogram_range(steps: Times, usual: int) -> tuple[float, float]:
    """From half to one and a half usual cycles, or closer where the spread is small; outliers fall at the ends."""
    spread = float(np.quantile(np.abs(steps - usual), 0.98)) * 2.0
    half = min(max(spread, usual * 0.004, 1000.0), usual * 0.5 or 1000.0)
    return usual - half, usual + half
