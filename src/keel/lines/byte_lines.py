"""What lines that carry the bytes of a serial line have in common: how they rest, and the rate of their bits."""

from __future__ import annotations

from dataclasses import dataclass

from keel.lines.code import Asked
from keel.lines.pulses import BitTime, glitch_free, resting
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
