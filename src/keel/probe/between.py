"""What channels say at cursors, and what one does between two of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from keel.errors import KeelError
from keel.lines.clocked import edges_to
from keel.model.waveform import Analog, Logic
from keel.probe.looking import Waves, levels_of
from keel.store.recording import Snapshot
from keel.store.waveform_entries import WaveformEntry


@dataclass(frozen=True)
class Between:
    """What a channel does from one moment to another.

    Attributes:
        edges: How many edges there are; None where no levels are known.
        least, most: In volts; None of levels.
        frequency: Of its rising edges, in Hz; None where there are fewer than two.
        duty: The share of whole periods that it is high; None likewise.
    """

    edges: int | None = None
    least: float | None = None
    most: float | None = None
    frequency: float | None = None
    duty: float | None = None


def values_at(
    waves: Waves, snapshot: Snapshot, entries: Sequence[WaveformEntry], times: Sequence[int]
) -> dict[int, tuple[float | None, ...]]:
    """What channels say at some moments, by their number: volts, or 0 and 1 of levels; None where it is not known."""
    found = {}
    for entry in entries if times else ():
        try:
            wave, _ = waves.of(snapshot, entry)
        except KeelError:
            # That it cannot be read is said where it is drawn.
            continue
        found[entry.number] = tuple(_value(wave, time) for time in times)
    return found


def _value(wave: Logic | Analog, time: int) -> float | None:
    if not wave.start <= time <= wave.end or any(low < time < high for low, high in wave.unknown):
        return None
    if isinstance(wave, Logic):
        return wave.level_at(time)
    place = min(round((time - wave.start) / wave.step), len(wave) - 1)
    return float(wave.volts(place, place + 1)[0]) if place >= 0 else None


def between(waves: Waves, snapshot: Snapshot, entry: WaveformEntry | None, begin: int, end: int) -> Between:
    """What a channel does between two moments."""
    if entry is None or end <= begin:
        return Between()
    try:
        wave, _ = waves.of(snapshot, entry)
        levels = wave if isinstance(wave, Logic) else levels_of(snapshot, entry)
    except KeelError:
        return Between()
    least = most = None
    if isinstance(wave, Analog):
        low = max(int((begin - wave.start) / wave.step), 0)
        high = min(int((end - wave.start) / wave.step) + 1, len(wave))
        if high > low:
            ends = _extremes(wave, low, high)
            least, most = min(ends), max(ends)
    if levels is None:
        return Between(None, least, most)
    first, last = levels.edges.searchsorted([begin, end]).tolist()
    inside = levels.part(begin, end)
    rises, falls = edges_to(inside, 1), edges_to(inside, 0)
    if len(rises) < 2:
        return Between(last - first, least, most)
    took = int(rises[-1] - rises[0])
    whole = falls[(falls > rises[0]) & (falls <= rises[-1])]
    # Of whole periods: what is high behind each rise but the last.
    is_high = int((whole - rises[:-1]).sum()) if len(whole) == len(rises) - 1 else None
    duty = is_high / took if is_high is not None else None
    return Between(last - first, least, most, (len(rises) - 1) * 1e9 / took, duty)


def _extremes(wave: Analog, low: int, high: int) -> tuple[float, float]:
    part = np.asarray(wave.samples[low:high])
    return float(part.min()) * wave.scale, float(part.max()) * wave.scale
