"""Evidence from a channel that was recorded beside the line: spans in which it is beyond a voltage, its volts over
time."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np

from keel.errors import InputError
from keel.hunt.files import read_points, read_spans
from keel.hunt.measurements import Points
from keel.hunt.series import WITHIN_S
from keel.lines.clocked import levels_before
from keel.lines.levels import crossed
from keel.model.span import Span
from keel.model.waveform import Analog
from keel.probe.stored import wave_of
from keel.store.recording import Snapshot
from keel.store.waveform_entries import WaveformEntry

MOST_POINTS = 4_000
SAME_CLOCK_S = 1.0
"""A channel is on the recording's clock: what follows it, or is followed by it, is no farther away."""
_BEYOND = re.compile(r"\s*(.+?)\s*([<>])\s*(-?\d+(?:\.\d+)?)\s*(mv|v)?\s*", re.IGNORECASE)


def channel_named(snapshot: Snapshot, name: str) -> WaveformEntry | None:
    """The channel of a name, in any case; None if none is kept."""
    channels = [entry for entry in snapshot.manifest.waveforms if entry.is_channel]
    return next((entry for entry in channels if entry.name.casefold() == name.strip().casefold()), None)


def spans_beyond(snapshot: Snapshot, text: str) -> list[Span] | None:
    """The spans in which a channel is beyond a voltage, as ``motor<11V`` says; None if the text says no such thing.

    Raises:
        InputError: its waveform has no volts.
    """
    said = _BEYOND.fullmatch(text)
    entry = channel_named(snapshot, said[1]) if said is not None else None
    if said is None or entry is None:
        return None
    volts = float(said[3]) * (1e-3 if (said[4] or "v").lower() == "mv" else 1.0)
    wave = wave_of(snapshot, entry)
    logic = crossed(wave, volts) if isinstance(wave, Analog) else wave
    wanted = int(said[2] == ">")
    spans = []
    for part in logic.stretches():
        bounds = np.concatenate([[part.start], part.edges, [part.end]])
        middles = (bounds[:-1] + bounds[1:]) // 2
        levels = levels_before(part, middles)
        spans += [Span(int(a), int(b)) for a, b, is_high in zip(bounds[:-1], bounds[1:], levels, strict=True)
                  if is_high == wanted]  # fmt: skip
    # What lasts all the time tells nothing.
    return [span for span in spans if (span.start, span.end) != (logic.start, logic.end)]


def points_of(snapshot: Snapshot, entry: WaveformEntry) -> Points:
    """The volts of a channel over time, the mean of each of some stretches.

    Raises:
        InputError: it has levels and no volts.
    """
    wave = wave_of(snapshot, entry)
    if not isinstance(wave, Analog):
        raise InputError(entry.name, "has levels and no volts", "a channel in volts")
    size = max(len(wave) // MOST_POINTS, 1)
    count = len(wave) // size
    means = wave.volts(0, count * size).reshape(count, size).mean(axis=1)
    return Points(wave.times((np.arange(count) + 0.5) * size), means)


def spans_from(snapshot: Snapshot, given: Path, start: int) -> list[Span]:
    """Spans of a file, or those in which a channel is beyond a voltage.

    Raises:
        InputError: it is neither.
    """
    spans = None if given.exists() else spans_beyond(snapshot, str(given))
    return read_spans(given, start) if spans is None else spans


def series_from(snapshot: Snapshot, given: Path, start: int) -> tuple[Points, float]:
    """A series of a file, or the volts of a channel; and how far its clock may be off, in s.

    Raises:
        InputError: it is neither.
    """
    entry = None if given.exists() else channel_named(snapshot, str(given))
    return (read_points(given, start), WITHIN_S) if entry is None else (points_of(snapshot, entry), SAME_CLOCK_S)
