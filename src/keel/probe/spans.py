"""Messages by time and voltage: when each begins and ends, how long it is, the silence before it, its levels."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
from numba import njit

from keel.media.every import ends_of
from keel.model.frames import Flag, FrameBatch, Times
from keel.model.waveform import Analog
from keel.probe.beside_channels import beside_channels, volts_at
from keel.probe.stored import wave_of
from keel.store.recording import Snapshot
from keel.store.waveform_entries import WaveformEntry, line_on

Floats = npt.NDArray[np.float64]
NEAR_A_LEVEL = 0.25
"""Samples are of a level where they are no farther from it than such a share of the swing."""


@dataclass(frozen=True, eq=False)
class Spans:
    """Messages; all of shape (n,), not a number where it is not known.

    Attributes:
        starts: In ns.
        lengths: In ns.
        gaps: The silence before each since the one before it on its bus ended, in ns.
        lows, highs: The mean of what it has at either level, in volts.
        beside: By the name of each channel beside the lines: its volts when the message begins.
    """

    starts: Times
    lengths: Floats
    gaps: Floats
    lows: Floats
    highs: Floats
    beside: Mapping[str, Floats]


def spans_of(snapshot: Snapshot, frames: FrameBatch) -> Spans:
    """The spans of frames, in the order of their time; silences are those between the frames that are given."""
    ends = np.array([np.nan if end is None else end for end in ends_of(frames, snapshot.manifest.buses)], np.float64)
    starts = frames.time
    lengths = ends - starts
    gaps, lows, highs = (np.full(len(frames), np.nan) for _ in range(3))
    for bus in np.unique(frames.bus).tolist():
        mine = np.flatnonzero(frames.bus == bus)
        if len(mine) > 1:
            until = np.fmax.accumulate(ends[mine])
            gaps[mine[1:]] = np.maximum(starts[mine[1:]] - until[:-1], 0)
            # Both ways of a transfer begin at once: what was before the one was before the other.
            for row in np.flatnonzero(starts[mine[1:]] == starts[mine[:-1]]).tolist():
                gaps[mine[row + 1]] = gaps[mine[row]]
    for entry in snapshot.manifest.waveforms:
        line = line_on(snapshot.manifest.waveforms, snapshot.manifest.lines, entry) if entry.is_channel else None
        if line is None or entry.kind == "logic":
            continue
        shown = frames.bus == line.bus
        form = line.over.get(entry.name, -1)
        shown &= (frames.form == form) | (form == -1)
        mine = np.flatnonzero(shown & np.isfinite(ends))
        if len(mine):
            lows[mine], highs[mine] = _levels_in(snapshot, entry, starts[mine], ends[mine])
    beside = {one.name: volts_at(snapshot, one, starts) for one in beside_channels(snapshot.manifest)}
    return Spans(starts, lengths, gaps, lows, highs, beside)


def _levels_in(snapshot: Snapshot, entry: WaveformEntry, starts: Times, ends: Floats) -> tuple[Floats, Floats]:
    out = np.full((2, len(starts)), np.nan)
    wave = wave_of(snapshot, entry)
    known = entry.measured
    if isinstance(wave, Analog) and {"low", "high"} <= set(known):
        reach = NEAR_A_LEVEL * (known["high"] - known["low"])
        begins = np.clip((starts - wave.start) / wave.step, 0, len(wave)).astype(np.int64)
        stops = np.clip((ends - wave.start) / wave.step, 0, len(wave)).astype(np.int64)
        cuts = (known["low"] + reach) / wave.scale, (known["high"] - reach) / wave.scale
        _means(np.asarray(wave.samples), begins, stops, *cuts, out)
        out *= wave.scale
    return out[0], out[1]


@njit(cache=True, nogil=True)
def _means(samples: Any, begins: Any, stops: Any, low_cut: Any, high_cut: Any, out: Any) -> None:
    """The means of what lies below a cut and above another one, in each of some spans; shape (2, n)."""
    for n in range(len(begins)):
        low = high = 0.0
        lows = highs = 0
        for k in range(begins[n], stops[n]):
            value = np.float64(samples[k])
            if value < low_cut:
                low += value
                lows += 1
            elif value > high_cut:
                high += value
                highs += 1
        if lows:
            out[0, n] = low / lows
        if highs:
            out[1, n] = high / highs


def by_identifier(snapshot: Snapshot, frames: FrameBatch, spans: Spans) -> list[dict[str, Any]]:
    """Of each identifier: how many messages, first start, last end, and least, mean and most of all else."""
    from keel.media.every import key_words

    names = snapshot.manifest.bus_names
    keys, group = np.unique(frames.keys(), return_inverse=True)
    found = []
    for place, key in enumerate(keys.tolist()):
        mine = np.flatnonzero(group == place)
        row: dict[str, Any] = {
            "bus": names[int(frames.bus[mine[0]])], "id": key_words(key), "dir": _way(frames, int(mine[0])),
            "count": len(mine),
            "start": int(spans.starts[mine[0]]), "end": _last(spans, mine),
        }  # fmt: skip
        for name in ("lengths", "gaps", "lows", "highs"):
            values = getattr(spans, name)[mine]
            values = values[np.isfinite(values)]
            three = (values.min(), values.mean(), values.max()) if len(values) else (None, None, None)
            single = name.removesuffix("s")
            row |= {
                f"{single}_{what}": None if one is None else float(one)
                for what, one in zip(("min", "mean", "max"), three, strict=True)
            }
        found.append(row)
    return found


def _way(frames: FrameBatch, row: int) -> str:
    return "tx" if frames.flags[row] & Flag.TX else "rx"


def _last(spans: Spans, rows: Any) -> int | None:
    ends = spans.starts[rows] + spans.lengths[rows]
    return int(np.nanmax(ends)) if np.isfinite(ends).any() else None


def each(snapshot: Snapshot, frames: FrameBatch, spans: Spans, numbers: Any) -> list[dict[str, Any]]:
    """A row for each message; numbers count from 1."""
    from keel.media.every import key_words

    names, keys = snapshot.manifest.bus_names, frames.keys().tolist()
    written = {key: key_words(key) for key in set(keys)}
    beside = [_numbers(values) for values in spans.beside.values()]
    columns = (
        numbers.tolist(), frames.bus.tolist(), keys, spans.starts.tolist(),
        *(_numbers(getattr(spans, name)) for name in ("lengths", "gaps", "lows", "highs")),
    )  # fmt: skip
    return [
        {
            "number": number + 1, "bus": names[bus], "id": written[key], "dir": _way(frames, row), "start": start,
            "end": None if length is None else round(start + length), "length": length, "gap": gap, "low": low,
            "high": high, **{f"{name}_at_start": volts[row] for name, volts in zip(spans.beside, beside, strict=True)},
        }
        for row, (number, bus, key, start, length, gap, low, high) in enumerate(zip(*columns, strict=True))
    ]  # fmt: skip


def _numbers(values: Floats) -> list[float | None]:
    return [None if one != one else one for one in values.tolist()]
