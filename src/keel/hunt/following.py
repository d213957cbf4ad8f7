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
class Change:
    """A payload that was exchanged for another one, and how often a channel followed that.

    Attributes:
        before: What it was before; None where that was not always the same.
    """

    before: bytes | None
    after: bytes
    times: int


@dataclass(frozen=True)
class Follows:
    """A message that a channel follows.

    Attributes:
        key: The message's identifier.
        to: What it changed to when the channel followed, the most frequent first.
        least, mean, most: How long after that the channel crossed, in ns.
        times, of: How often it did, of how many crossings.
        changes: How often the message changed at all.
    """

    key: int
    to: tuple[Change, ...]
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
        ident = f"{bus} {key_words(self.key)}"
        return (
            f"{length_words(self.mean)}{spread} after {ident} changed: {self._changes()}; "
            f"it changed {self.changes} times in all"
        )

    def _changes(self) -> str:
        """What it changed to, and how often: ``2 of 3 times 7D 06 → 31 5C, once → 2E 53``."""
        said, shown = [], None
        for place, one in enumerate(self.to[:MOST_CHANGES]):
            often = f"{one.times} of {self.of} times" if not place else _times(one.times)
            before = "" if place and one.before == shown else f"{_hex(one.before)} "
            said.append(f"{often} {before}→ {_hex(one.after)}")
            shown = one.before
        rest = sum(one.times for one in self.to[MOST_CHANGES:])
        if rest:
            said.append(f"{_times(rest)} → others")
        return ", ".join(said)


MOST_CHANGES, MOST_BYTES = 3, 16
"""So many changes are told one by one, and so many bytes of each."""


def _times(count: int) -> str:
    return "once" if count == 1 else f"{count} times"


def _hex(payload: bytes | None) -> str:
    if payload is None:
        return "various"
    cut = " …" if len(payload) > MOST_BYTES else ""
    return payload[:MOST_BYTES].hex(" ").upper() + cut if payload else "nothing"


def _counted(pairs: Sequence[tuple[bytes, bytes]]) -> tuple[Change, ...]:
    """Changes by what they led to, the most frequent first."""
    befores: dict[bytes, list[bytes]] = {}
    for before, after in pairs:
        befores.setdefault(after, []).append(before)
    changes = []
    for after, known in befores.items():
        is_one = len(set(known)) == 1
        changes.append(Change(known[0] if is_one else None, after, len(known)))
    return tuple(sorted(changes, key=lambda one: -one.times))


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
    followed_turns = [turns[one] for one in place[good].tolist()]
    pairs = [(payloads[turn - 1], payloads[turn]) for turn in followed_turns]
    return Follows(
        key, _counted(pairs), int(kept.min()), float(kept.mean()), int(kept.max()), len(kept), len(moments), len(turns)
    )
