"""What a channel beside a line follows: how long after a message changed it crosses a voltage, each time."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from keel.ask.fetch import frames_at
from keel.ask.matches import Matches
from keel.media.every import key_words
from keel.model.frames import FrameBatch, Times
from keel.model.identity import unpack_key
from keel.model.span import Span
from keel.model.units import length_words

WITHIN_NS = 2_000_000_000
"""What changed longer ago is not followed."""
MOST_ROWS = 3
STEADY = 0.5
"""A delay is one where it differs from time to time by no more than that share of the time between changes."""


@dataclass(frozen=True)
class Follows:
    """A message that a channel follows.

    Attributes:
        key: The message's identifier.
        before, after: Its payload before and after it changed, the last time.
        least, mean, most: How long after that the channel crossed, in ns.
        times, of: How often it did, of how many crossings.
        changes: How often the message changed at all.
    """

    key: int
    before: bytes
    after: bytes
    least: int
    mean: float
    most: int
    times: int
    of: int
    changes: int

    def words(self, buses: Sequence[str]) -> str:
        """In a sentence, but for what it does."""
        bus = buses[unpack_key(self.key)[0]]
        ends = length_words(self.least), length_words(self.most)
        spread = "" if ends[0] == ends[1] else f" ({ends[0]} to {ends[1]})"
        said = f"{self.before.hex(' ').upper() or 'nothing'} to {self.after.hex(' ').upper() or 'nothing'}"
        often = f"{self.times} of {self.of} times; it changed {self.changes} times in all"
        return f"{length_words(self.mean)}{spread} after {bus} {key_words(self.key)} went from {said}, {often}"


def followed_words(matches: Matches, spans: Sequence[Span]) -> list[str]:
    """Sentences of what a channel follows that is beyond its voltage in some spans, among the matches of an ask."""
    if not len(matches):
        return []
    snapshot = matches.snapshot
    frames, whole = frames_at(matches, 0, len(matches)), snapshot.span
    said = []
    for verb, moments in (("begins", [span.start for span in spans]), ("ends", [span.end for span in spans])):
        # What is cut by the recording begins or ends with nothing.
        inside = np.array([one for one in moments if whole.start < one < whole.end - 1], np.int64)
        said += [f"{verb} {one.words(snapshot.manifest.bus_names)}" for one in followed(frames, inside)]
    return said


def followed(frames: FrameBatch, moments: Times) -> list[Follows]:
    """The messages that change before each of some moments, the steadiest first.

    Args:
        frames: The frames that may be followed, in the order of their time.
        moments: When a channel crosses a voltage, ascending, in ns.
    """
    if not len(moments):
        return []
    found = []
    keys = frames.keys()
    for key in np.unique(keys).tolist():
        rows = np.flatnonzero((keys == np.uint64(key)) & frames.is_good(slice(None)))
        one = _of_key(frames, rows, key, moments)
        if one is not None:
            found.append(one)
    # Who answers changes with who asks: the one that changed first caused it.
    return sorted(found, key=lambda one: (-one.times, one.changes - one.times, -one.mean))[:MOST_ROWS]


def _of_key(frames: FrameBatch, rows: Times, key: int, moments: Times) -> Follows | None:
    payloads = [frames.payload(row) for row in rows.tolist()]
    turns = [n for n in range(1, len(payloads)) if payloads[n] != payloads[n - 1]]
    if not turns:
        return None
    times = frames.time[rows[turns]]
    place = np.searchsorted(times, moments, side="right") - 1
    delays = moments - times[np.maximum(place, 0)]
    good = (place >= 0) & (delays <= WITHIN_NS)
    if not good.any():
        return None
    between = float(np.diff(times).mean()) if len(times) > 1 else float(WITHIN_NS)
    kept = delays[good]
    if np.ptp(kept) > STEADY * between:
        return None
    last = turns[int(place[good][-1])]
    return Follows(
        key, payloads[last - 1], payloads[last], int(kept.min()), float(kept.mean()), int(kept.max()), len(kept),
        len(moments), len(turns),
    )  # fmt: skip
