"""When channels of a recording cross a voltage."""

from __future__ import annotations

from collections import OrderedDict
from threading import Lock

import numpy as np

from keel.lines.clocked import edges_to
from keel.lines.levels import crossed
from keel.model.frames import Times
from keel.model.waveform import Analog
from keel.probe.stored import wave_of
from keel.store.recording import Snapshot
from keel.store.waveform_entries import WaveformEntry

MOST_KEPT = 64


class Crossings:
    """When the channels of a recording cross a voltage; what was looked for is kept."""

    _kept: OrderedDict[object, tuple[Times, Times]] = OrderedDict()
    _lock = Lock()

    def __init__(self, snapshot: Snapshot) -> None:
        self._snapshot = snapshot

    def times(self, channel: str, volts: float, rises: bool) -> Times:
        """When a channel crosses a voltage upward, or downward, in ns, ascending; none of one that is not there.

        Raises:
            RecordingError: its waveform cannot be read.
        """
        entry = next((e for e in self._snapshot.manifest.waveforms if e.is_channel and e.name == channel), None)
        if entry is None:
            return np.zeros(0, np.int64)
        key = (entry.digest, entry.formula, entry.start, entry.end, entry.name, volts)
        with self._lock:
            if key not in self._kept:
                self._kept[key] = self._find(entry, volts)
                while len(self._kept) > MOST_KEPT:
                    self._kept.popitem(last=False)
            self._kept.move_to_end(key)
            up, down = self._kept[key]
        return up if rises else down

    def _find(self, entry: WaveformEntry, volts: float) -> tuple[Times, Times]:
        """When it goes up through it, and down."""
        wave = wave_of(self._snapshot, entry)
        logic = crossed(wave, volts) if isinstance(wave, Analog) else wave
        parts = list(logic.stretches())
        none = np.zeros(0, np.int64)
        up, down = (np.concatenate([none, *(edges_to(part, level) for part in parts)]) for level in (1, 0))
        return up, down
