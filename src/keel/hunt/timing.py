"""What an identifier's timing, counter and checksum say in a bad recording and not in a good one."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from keel.hunt.checksums import find_checksum, wrong
from keel.hunt.columns import Column
from keel.hunt.counters import skips
from keel.hunt.structure import Structure
from keel.hunt.surprises import MOST_TIMES, Finding
from keel.model.fields import extract
from keel.model.frames import Mask
from keel.model.identity import unpack_key
from keel.model.units import NS_PER_S

SURE = 45.0
"""Surprise that nothing outdoes."""
SUDDEN = 22.0
"""What it adds if it never was: a checksum that always holds does not fail by itself."""
PARTS = 8
OFTEN_WRONG, ALWAYS_WRONG, DOUBTED, ENOUGH = 0.1, 0.98, 0.5, 1500
"""A checksum wrong in more frames than the first share, and in fewer than the second, is trusted less; it is looked at
anew in so many frames of each side."""
REGULAR = 0.35
"""Spread of the times between frames, by their median, up to which they come regularly."""

Floats = npt.NDArray[np.float64]


def timing_surprises(
    key: int, good: Column | None, bad: Column | None, span_good: tuple[int, int], span_bad: tuple[int, int]
) -> list[Finding]:
    """Identifiers missing, new, dropping out, or in another rhythm."""
    length_good, length_bad = (max(b - a, 1) / NS_PER_S for a, b in (span_good, span_bad))
    if bad is None or not len(bad.times):
        assert good is not None
        expected = len(good.times) * length_bad / length_good
        times = (span_bad[0],)
        return [
            Finding(
                key,
                "missing",
                None,
                min(4 + expected, SURE),
                times,
                f"sent {len(good.times)} times in the good one, never here",
            )
        ]
    if good is None or not len(good.times):
        expected = len(bad.times) * length_good / length_bad
        why = f"never in the good one, {len(bad.times)} times here"
        return [Finding(key, "new_identifier", None, min(4 + expected, SURE), (int(bad.times[0]),), why)]
    if len(good.times) < 8 or len(bad.times) < 4:
        return []
    return _rhythm(key, good, bad) + _gaps(key, good, bad, span_good, span_bad)


def _steps(column: Column) -> Floats:
    return np.diff(column.times) / NS_PER_S


def _is_regular(steps: Floats) -> bool:
    quarter, half, most = np.quantile(steps, [0.1, 0.5, 0.9])
    return bool(most - quarter <= REGULAR * half)


def _rhythm(key: int, good: Column, bad: Column) -> list[Finding]:
    steps, now = _steps(good), _steps(bad)
    if not _is_regular(steps):
        return []
    middle = len(steps) // 2
    usual, first, second, here = (float(np.median(s)) for s in (steps, steps[:middle], steps[middle:], now))
    if min(usual, first, second, here) <= 0:
        return []
    apart, natural = abs(np.log(here / usual)), abs(np.log(first / second))
    nats = min(100 * (apart - 3 * natural) - 2, SURE)
    if nats <= 0:
        return []
    why = f"comes every {here * 1000:.4g} ms instead of every {usual * 1000:.4g} ms"
    return [Finding(key, "cycle_changed", None, nats, (int(bad.times[0]),), why)]


def _gaps(key: int, good: Column, bad: Column, span_good: tuple[int, int], span: tuple[int, int]) -> list[Finding]:
    steps, now = _steps(good), _steps(bad)
    usual = float(np.median(now))
    if usual <= 0:
        return []
    # Silence up to the end counts, too.
    now = np.concatenate([now, [max(span[1] - int(bad.times[-1]), 0) / NS_PER_S]])
    longest = max(float(steps.max()), (span_good[1] - int(good.times[-1])) / NS_PER_S)
    regular = _is_regular(steps)
    least = max(1.5 * longest, 3.0 * usual) if regular else 3.0 * longest
    found = np.flatnonzero(now > least)
    if not len(found):
        return []
    worst = float(now.max())
    nats = (12 if regular else 5) * np.log(worst / max(longest, 2 * usual if regular else longest)) + (
        6 if regular else 0
    )
    nats += min(len(found), 3)
    times = tuple(int(t) for t in bad.times[found[:MOST_TIMES]])
    why = f"silent for {worst:.3g} s" + (f", {len(found)} gaps in all" if len(found) > 1 else "")
    return [
        Finding(
            key,
            "dropout",
            None,
            min(float(nats), SURE - 2),
            times,
            f"{why}; never longer than {longest:.3g} s in the good one",
        )
    ]


def guard_surprises(structure: Structure, good: Column, bad: Column) -> list[Finding]:
    """Counters that skip, checksums that are wrong."""
    found: list[Finding] = []
    key = structure.key
    step = float(np.median(_steps(bad))) if len(bad.times) > 2 else 0.0
    for counter in structure.counters:
        before, now = skips(counter, good.payloads), skips(counter, bad.payloads)
        # Where frames are missing the count goes on without them: that is the gap's doing.
        now &= _steps(bad) < 1.8 * max(step, 1e-9)
        nats = _rarer(before, now)
        if nats > 0:
            at = np.flatnonzero(now)
            times = tuple(int(t) for t in bad.times[at[:MOST_TIMES] + 1])
            why = f"the counter skips {len(at)} times in {len(now)} frames; in the good one {int(before.sum())} times"
            found.append(Finding(key, "counter_skips", counter.field, nats, times, why))
    if structure.checksum is not None:
        checksum = structure.checksum
        counter_field = structure.counters[0].field if structure.counters else None
        counts = [extract(counter_field, c.payloads) if counter_field else None for c in (good, bad)]
        before, now = wrong(checksum, good.payloads, counts[0]), wrong(checksum, bad.payloads, counts[1])
        nats = _rarer(before, now)
        nats *= _trust(structure, good, bad, now) if nats > 0 else 1.0
        if nats > 0:
            at = np.flatnonzero(now)
            times = tuple(int(t) for t in bad.times[at[:MOST_TIMES]])
            why = f"the checksum is wrong in {len(at)} of {len(now)} frames; in the good one in {int(before.sum())}"
            found.append(Finding(key, "checksum_wrong", checksum.field, nats + 2, times, why))
    return found


def _trust(structure: Structure, good: Column, bad: Column, now: Mask) -> float:
    """How far a checksum that is often wrong is trusted: not at all where another one holds in both."""
    checksum = structure.checksum
    if checksum is None or not OFTEN_WRONG < now.mean() < ALWAYS_WRONG:
        return 1.0
    rows = np.concatenate([c.payloads[:: max(len(c.payloads) // ENOUGH, 1)] for c in (good, bad)])
    other = find_checksum(rows, unpack_key(structure.key)[2], [c.field for c in structure.counters])
    # A node that computes it wrongly does so in all its frames, or in few; between it may have been misread.
    return DOUBTED if other is None or other.field != checksum.field else 0.0


def _rarer(before: Mask, now: Mask) -> float:
    """Surprise that something rare is more frequent.

    Args:
        before: Where it was so in the good traffic, shape (n,).
        now: Where it is so in the bad, shape (m,).
    """
    # What comes in bursts is as frequent as it ever was in a part of the good one.
    parts = [part.mean() for part in np.array_split(before, PARTS) if len(part)]
    usual = max([*parts, 0.3 / max(len(before), 1)]) if before.any() else 0.3 / max(len(before), 1)
    count, expected = int(now.sum()), float(usual) * len(now)
    if count <= expected:
        return 0.0
    # Poisson: the log likelihood ratio of the rate seen to the rate expected, with a bonus for what never was.
    nats = count * np.log(count / expected) - (count - expected)
    return float(min(nats + (SUDDEN if not before.any() else 0.0), SURE))
