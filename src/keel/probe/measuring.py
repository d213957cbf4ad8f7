"""What is measured of a channel without reading what is said on it."""

from __future__ import annotations

from typing import Any

from keel.lines.code import Asked
from keel.lines.codes import guesses
from keel.lines.pulses import BitTime, bit_time, idle_level, nearest_rate
from keel.probe.channels import Probed


def measured(one: Probed) -> dict[str, Any]:
    """What ``measure`` says of a channel."""
    unit: BitTime | None = bit_time(one.logic)
    rate: float | None = unit.rate if unit is not None else None
    fast: float | None = None
    if unit is not None:
        found = [g for g in guesses(one.logic, Asked(), "canfd") if g.fast_rate]
        if found and found[0].score > 0.5:
            rate, fast = float(found[0].rate), found[0].fast_rate
            if unit.nearest_rate:
                rate *= unit.rate / unit.nearest_rate
    nearest = None
    if rate is not None:
        nearest = nearest_rate(rate)
    return {
        **one.to_json(),
        "bit_time_ns": None if rate is None else 1e9 / rate,
        "rate": rate,
        "fast_rate": fast,
        "nearest_rate": nearest,
        "deviation": None if rate is None or nearest is None else rate / nearest - 1,
    }


def facts(one: Probed) -> dict[str, float]:
    """What a recording keeps of a channel's measures; see `WaveformEntry.measured`."""
    found: dict[str, float] = {"idle": idle_level(one.logic), "edges": one.edges}
    if one.levels is not None and one.levels.swing:
        found |= {"low": one.levels.low, "high": one.levels.high, "threshold": one.levels.threshold}
    unit = bit_time(one.logic)
    return found | ({"bit_ns": unit.ns} if unit is not None else {})
