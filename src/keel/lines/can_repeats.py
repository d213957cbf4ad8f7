"""Frames that nobody acknowledges: how often a sender repeats them, and what that says of the bus.

A sender whose frame is not acknowledged sends an error flag and the same frame once more, without end: its error
counter rises until it is error passive (16 times 8), and from there on missing acknowledgements are no longer counted.
An error-passive node's flag is recessive and cannot be seen; the suspended transmission behind it can.

Source: ISO 11898-1:2015, 10.9 (fault confinement, rule c with its exception), 10.4.4 (error flags).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from keel.media.every import format_ident
from keel.model.faults import Fault
from keel.model.frames import FrameBatch, Mask, Rows
from keel.model.prints import prints_of

MOST_APART = 40.0
"""In bits: a repetition begins behind error flag (6 to 12), delimiter (8), intermission (3) and the time for which an
error-passive sender waits (8); with some to spare."""
FEWEST = 3
"""So many in a row are a repetition rather than a disturbance."""
MOST_NAMED = 3


@dataclass(frozen=True)
class Repeats:
    """One frame that was sent again and again.

    Attributes:
        ident: Its identifier, as it is written.
        times: How often it was sent without being acknowledged.
        active: After how many of these an active error flag was seen.
        start: When it was sent first, in ns.
        is_taken: Whether somebody acknowledged it in the end.
    """

    ident: str
    times: int
    active: int
    start: int
    is_taken: bool

    @property
    def passive(self) -> int:
        """How often the sender was error passive: no flag is seen, and it goes on all the same."""
        return self.times - self.active

    def words(self) -> str:
        """As a sentence."""
        flags = []
        if self.active:
            flags.append(f"{self.active:,} with an active error flag")
        if self.passive:
            flags.append(f"{self.passive:,} with a passive one")
        end = "then it was acknowledged" if self.is_taken else "never acknowledged"
        return f"{self.ident} was sent {self.times:,} times in a row ({', '.join(flags)}), {end}"


def repeats_of(frames: FrameBatch, bit_ns: float) -> list[Repeats]:
    """Frames that were sent again because nobody acknowledged them, in the order of time.

    Args:
        frames: Those of a line in the order of time, with error flags as rows of their own.
        bit_ns: How long a bit takes.
    """
    assert frames.duration is not None
    is_flag = _has(frames, Fault.ERROR_FLAG)
    says = prints_of(frames)
    ends = frames.time + frames.duration
    # The row behind a frame and, if there is one, its error flag.
    last = len(frames) - 1
    behind = np.arange(len(frames)) + 1
    is_flagged = is_flag[np.minimum(behind, last)] & (behind <= last)
    following = behind + is_flagged
    there = np.minimum(following, last)
    silence = frames.time[there] - ends[np.minimum(behind - 1 + is_flagged, last)]
    goes_on = (following <= last) & (silence <= MOST_APART * bit_ns) & (says[there] == says)
    unanswered = _has(frames, Fault.ACK) & ~is_flag
    found = []
    for run in _runs(unanswered, goes_on, following):
        row = int(run[-1])
        is_taken = bool(goes_on[row]) and int(frames.faults[there[row]]) == 0
        ident = format_ident(int(frames.form[row]), int(frames.ident[row]))
        active = int(is_flagged[run].sum())
        found.append(Repeats(ident, len(run), active, int(frames.time[run[0]]), is_taken))
    return found


def _has(frames: FrameBatch, fault: Fault) -> Mask:
    has: Mask = (frames.faults & np.uint64(int(fault))) != 0
    return has


def _runs(unanswered: Mask, goes_on: Mask, following: Rows) -> list[Rows]:
    """Rows of unanswered frames that each are followed by themselves; runs that are long enough."""
    rows = np.flatnonzero(unanswered)
    if len(rows) < FEWEST:
        return []
    joins = goes_on[rows[:-1]] & (following[rows[:-1]] == rows[1:])
    starts = np.concatenate([[0], np.flatnonzero(~joins) + 1])
    ends = np.append(starts[1:], len(rows))
    is_long = ends - starts >= FEWEST
    pairs = zip(starts[is_long].tolist(), ends[is_long].tolist(), strict=True)
    return [rows[start:end] for start, end in pairs]


def sentences(frames: FrameBatch, bit_ns: float) -> list[str]:
    """What is to be said of frames that nobody acknowledged: whose fault it might be, by how their sender goes on."""
    missing = _has(frames, Fault.ACK) & ~_has(frames, Fault.ERROR_FLAG)
    if not missing.any():
        return []
    repeats = repeats_of(frames, bit_ns)
    said = [one.words() for one in repeats[:MOST_NAMED]]
    if len(repeats) > MOST_NAMED:
        said.append(f"{len(repeats) - MOST_NAMED:,} more frames were repeated like that")
    if repeats:
        said.append(
            "repeated without an acknowledgement: its sender is alone on the bus, or all others only listen, "
            "or they are set to another bit rate"
        )
    elif missing.sum() >= FEWEST and not _has(frames, Fault.ERROR_FLAG).any():
        said.append(
            f"{int(missing.sum()):,} frames without an acknowledgement, none of them repeated or followed by an error "
            "flag: their sender needs none, as in loopback or self-test, or this is what a node itself drives"
        )
    return said
