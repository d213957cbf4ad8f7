"""What lines that carry the bytes of a serial line have in common: how they rest, and the rate of their bits."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from keel.lines.code import Asked, Field, How
from keel.lines.pulses import BitTime, glitch_free, resting
from keel.lines.timing import Pulses, inside, pulses, taken
from keel.lines.uart import Serial, decode
from keel.model.waveform import Logic

GLITCH = 0.25
"""Pulses shorter than that share of a bit are none."""
NEAR = 0.06
"""A clock as it is measured is meant by a rate that is so near."""


@dataclass(frozen=True, eq=False)
class ByteLine:
    """A line as its bytes are read: resting high, without spikes; its bits a second; whether it was exchanged."""

    line: Logic
    rate: float
    inverted: bool


def byte_line(logic: Logic, unit: BitTime | None, asked: Asked) -> ByteLine | None:
    """A line as its bytes are read; None where there is too little to tell how."""
    if len(logic.edges) < 8 or (unit is None and asked.rate is None):
        return None
    inverted = resting(logic)[0] == 0 if asked.inverted is None else asked.inverted
    measured = unit.rate if unit is not None else 0.0
    is_near = asked.rate is None or (measured > 0 and abs(measured / asked.rate - 1) < NEAR)
    rate = measured if is_near else asked.rate or measured
    return ByteLine(glitch_free(logic.inverted if inverted else logic, GLITCH * 1e9 / rate), rate, inverted)


def time_bytes(line: Logic, how: How, fields: Sequence[Field]) -> Pulses:
    """Edges against the begin of the start bit of their byte; bits are taken in their middle."""
    said, bit = how.settings, 1e9 / how.numbers["rate"]
    serial = Serial(how.numbers["rate"], said.get("bits", 8), said.get("parity", "none"), said.get("stop", 1.0))
    begin, end = fields[0].start, fields[-1].end
    edges = inside(line, fields[0].start, fields[-1].end)
    quiet = Logic(begin - round(40 * bit), end + round(2 * bit), 1, edges)
    sent = decode(quiet, serial)
    found = pulses(edges, sent.starts, bit, 0.5, 0.5)
    # From the stop bit of one byte to the next one there is no time that it should take.
    place = np.searchsorted(sent.starts, found.begins, side="right") - 1
    mine = (place >= 0) & (found.ends - sent.starts[np.maximum(place, 0)] < (serial.length - 0.5) * bit)
    return taken(found, mine)
