"""What stands on a SENT line between its messages: requests to the sensor, and messages that were disturbed.

A sensor that waits for requests sends after its wire was pulled low by somebody else; how long that took and how long
the sensor took to answer are told. What else lies there and is no message is kept as a faulty frame.

Source: SAE J2716 (2016), 5.2.3 (pulses of a message).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from keel.lines.framing import frames_of
from keel.lines.sent_reader import CALIBRATION, LONGEST_PAUSE, NIBBLES, OFF_A_TICK, ZERO
from keel.media.sent import FAST, REQUEST, header_of
from keel.model.faults import Fault
from keel.model.frames import Flag, FrameBatch, Times, batch_of
from keel.model.waveform import Logic

ALIKE_WIDTH = 0.5
"""Requests of one line are as long as each other but for such a share."""
MOSTLY = 0.5
"""A line is asked where such a share of its messages has something before it."""
FEWEST_PULSES = 3
"""Fewer are a spike, and no message that was disturbed."""
LIKE_A_CALIBRATION = 0.1
"""A pulse so near to the calibration pulses of a line, as a share, may be one."""
A_SILENCE = 2 * CALIBRATION
"""In ticks: so long nothing happens within a message."""
LONG_SILENCE = 5.0
"""A silence is worth a word where it is so many times as long as usual ones."""
MOST_DAMAGED = 100_000
"""No more disturbed messages than that are kept one by one."""


@dataclass(frozen=True, eq=False)
class Asking:
    """Requests on a line, shape (n,).

    Attributes:
        begins, widths: When the wire was pulled low, and for how long, in ns.
        answers: The row of the message that answered; -1 where none did.
        delays: From the request's end to the answer, in ns; 0 where there is none.
    """

    begins: Times
    widths: Times
    answers: Any
    delays: Times

    def __len__(self) -> int:
        return len(self.begins)

    @property
    def is_answered(self) -> Any:
        """Which were answered."""
        return self.answers >= 0

    def headers(self, messages: int) -> Any:
        """Headers of so many messages, those that were asked for with their request."""
        asked = self.answers[self.is_answered]
        width, delay = np.zeros(messages, np.int64), np.zeros(messages, np.int64)
        width[asked], delay[asked] = self.widths[self.is_answered], self.delays[self.is_answered]
        return header_of(messages, width, delay)

    def unanswered(self) -> FrameBatch:
        """Requests that nobody answered, as frames."""
        alone = ~self.is_answered
        begins, widths = self.begins[alone], self.widths[alone]
        header = header_of(len(begins), widths, np.zeros_like(widths))
        return batch_of(
            begins, 0, np.zeros((len(begins), 0), np.uint8), form=REQUEST.number, flags=int(Flag.TX), dlc=0,
            faults=np.full(len(begins), int(Fault.NO_RESPONSE), np.uint32), header=header, duration=widths,
        )  # fmt: skip

    def words(self, end: int) -> list[str]:
        """What is to be said of asking and answering.

        Args:
            end: When the recording ends, in ns.
        """
        count, answered = len(self), int(self.is_answered.sum())
        width = float(np.median(self.widths)) / 1e3
        said = [f"waits for requests: asked {count:,} times, by {width:.4g} µs of low"]
        if answered:
            delays = self.delays[self.is_answered] / 1e3
            said.append(f"answers {delays.min():.4g} to {delays.max():.4g} µs after the request")
        if answered < count:
            first = int(self.begins[~self.is_answered][0])
            times = f"{count - answered:,} times"
            said.append(f"asked, no answer: {times}, first at {first / 1e9:.6f} s; the sensor was silent")
        between = np.diff(np.append(self.begins, end))
        usual = float(np.median(between[:-1])) if count > 1 else 0.0
        longest = int(between.argmax())
        if usual and between[longest] > LONG_SILENCE * usual:
            begin = int(self.begins[longest]) / 1e9
            until = begin + float(between[longest]) / 1e9
            said.append(f"never asked from {begin:.6f} s to {until:.6f} s: nobody pulled the wire low")
        return said


def requests_of(line: Logic, falls: Times, table: Any) -> Asking | None:
    """The requests of a line; None of one that sends without being asked.

    Args:
        line: A line that rests high.
        falls: Its falling edges, in ns.
        table: Its messages, as `read_messages` has them.
    """
    starts, ends = table[:, 0], table[:, 6]
    outside = falls[_owner(falls, starts, ends) < 0]
    outside = outside[outside < line.end]
    rises = _rises(line)
    behind = np.searchsorted(rises, outside, side="right")
    outside, behind = outside[behind < len(rises)], behind[behind < len(rises)]
    if not len(outside) or len(starts) < 2:
        return None
    widths = rises[behind] - outside
    following = np.searchsorted(starts, outside, side="right")
    # Of what lies before a message the last pulse asked for it.
    last = np.append(following[1:] != following[:-1], True) & (following < len(starts))
    if last.sum() < MOSTLY * len(starts):
        return None
    usual = float(np.median(widths[last]))
    is_one = np.abs(widths - usual) <= ALIKE_WIDTH * usual
    begins, widths, following, last = outside[is_one], widths[is_one], following[is_one], last[is_one]
    answers = np.where(last, following, -1)
    delays = np.where(last, starts[np.minimum(following, len(starts) - 1)] - begins - widths, 0)
    # A message that comes much later than answers do is none to this request.
    if last.any():
        late = delays > 10 * max(float(np.median(delays[last])), usual)
        answers, delays = np.where(late, -1, answers), np.where(late, 0, delays)
    return Asking(begins, widths, answers, delays)


def _rises(line: Logic) -> Times:
    places = np.arange(len(line.edges)) & 1
    rises: Times = line.edges[places == (1 if line.first else 0)]
    return rises


def _owner(falls: Times, starts: Any, ends: Any) -> Any:
    """The message that a falling edge is of: its own, or that which ends with it; -1 of none."""
    place = np.searchsorted(starts, falls, side="right") - 1
    inside = (place >= 0) & (falls <= ends[np.maximum(place, 0)])
    return np.where(inside, place, -1)


def damaged(falls: Times, table: Any, nibbles: int, asking: Asking | None) -> FrameBatch:
    """What lies between messages and was one before it was disturbed: faulty frames with what can be read of them.

    Args:
        falls: The falling edges of a line, in ns.
        table: Its messages, as `read_messages` has them.
        nibbles: How many nibbles of data a message has.
        asking: Requests, which are no messages.
    """
    starts, ends = table[:, 0], table[:, 6]
    tick = float(np.median(table[:, 5])) / CALIBRATION
    is_left = _owner(falls, starts, ends) < 0
    if asking is not None:
        is_left &= ~np.isin(falls, asking.begins)
    # What the recording cut at its begin and end is no message that was disturbed.
    is_left &= (falls > starts[0]) & (falls < ends[-1])
    rows: list[tuple[int, int, bytes, int]] = []
    for group in _groups(falls, is_left, ends, tick):
        if len(rows) >= MOST_DAMAGED:
            break
        rows += _rows(group, tick, nibbles)
    times, stops, payloads, faults = (list(column) for column in zip(*rows, strict=True)) if rows else ([], [], [], [])
    offsets = np.cumsum([0, *map(len, payloads)])
    data = np.frombuffer(b"".join(payloads), np.uint8)
    return frames_of(
        np.array(times, np.int64), np.array(stops, np.int64), FAST.number, 0, offsets, data, np.array(faults, np.uint32)
    )


def _groups(falls: Times, is_left: Any, ends: Any, tick: float) -> list[Times]:
    """Falling edges that are of no message, those together that follow each other; each with those around them.

    The edge that ends a message begins the next, and so the last pulse of what was disturbed ends with one of another.
    """
    left = np.flatnonzero(is_left)
    if not len(left):
        return []
    apart = (np.diff(left) != 1) | (np.diff(falls[left]) > A_SILENCE * tick)
    found = []
    for group in np.split(left, np.flatnonzero(apart) + 1):
        last = int(group[-1])
        is_ended = last + 1 < len(falls) and falls[last + 1] - falls[last] <= LONGEST_PAUSE * tick
        first = int(group[0])
        is_begun = first > 0 and falls[first - 1] in ends and falls[first] - falls[first - 1] <= A_SILENCE * tick
        edges = falls[first - is_begun : last + 1 + is_ended]
        if len(edges) > FEWEST_PULSES:
            found.append(edges)
    return found


def _rows(edges: Times, tick: float, nibbles: int) -> list[tuple[int, int, bytes, int]]:
    """A stretch of pulses cut at what may be calibration pulses: begin, end, payload and fault of each part."""
    pulses = np.diff(edges) / tick
    begins = np.flatnonzero(np.abs(pulses / CALIBRATION - 1) <= LIKE_A_CALIBRATION).tolist()
    cuts = [0, *(place for place in begins if place), len(pulses)]
    found = []
    for low, high in zip(cuts, cuts[1:], strict=False):
        if high - low < FEWEST_PULSES and len(cuts) > 2:
            continue
        has_one = low in begins
        payload = _payload(pulses[low + 1 : high], nibbles) if has_one else b""
        fault = Fault.LENGTH if has_one else Fault.CALIBRATION
        found.append((int(edges[low]), int(edges[high]), payload, int(fault)))
    return found


def _payload(pulses: Any, nibbles: int) -> bytes:
    """Status and data as far as pulses are such as nibbles have: the status as a byte, then two nibbles to a byte."""
    values = readable(pulses, nibbles + 1)
    if not values:
        return b""
    data = values[1:]
    data += [0] * (len(data) % 2)
    packed = [high << 4 | low for high, low in zip(data[::2], data[1::2], strict=True)]
    return bytes([values[0], *packed])


def readable(pulses: Any, most: int) -> list[int]:
    """The nibbles that pulses say, in ticks, up to the first that says none."""
    values: list[int] = []
    for pulse in pulses[:most]:
        value = round(float(pulse) - ZERO)
        if not 0 <= value < NIBBLES or abs(pulse - ZERO - value) > OFF_A_TICK:
            break
        values.append(value)
    return values
