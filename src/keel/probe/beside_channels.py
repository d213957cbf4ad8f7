"""Channels that were recorded beside the lines: a motor's voltage, a supply."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from keel.model.frames import Times
from keel.model.waveform import Analog
from keel.probe.stored import waveform_named
from keel.store.manifest import Manifest
from keel.store.recording import Snapshot
from keel.store.waveform_entries import WaveformEntry

Floats = npt.NDArray[np.float64]


def beside_channels(manifest: Manifest) -> list[WaveformEntry]:
    """The channels in volts of which no line was read, of recordings that have lines."""
    used = {name for line in manifest.lines for name in line.channels}
    return [one for one in manifest.waveforms if manifest.lines and one.kind == "analog" and one.name not in used]


def volts_at(snapshot: Snapshot, entry: WaveformEntry, times: Times) -> Floats:
    """The volts of a channel at some moments, by the sample nearest to each; not a number where nothing was recorded.

    Raises:
        RecordingError: its waveform cannot be read.
    """
    wave: Any = waveform_named(snapshot, entry.number).wave
    assert isinstance(wave, Analog)
    places = np.rint((times - wave.start) / wave.step).astype(np.int64)
    known = (places >= 0) & (places < len(wave))
    found = np.full(len(times), np.nan)
    found[known] = np.asarray(wave.samples)[places[known]] * np.float64(wave.scale)
    return found
