"""An adapter's times, which begin anew each minute, laid onto the clock of this machine."""

from __future__ import annotations

from typing import Any

import numpy as np

from keel.formats.adapter_lines import WRAP_MS


class AdapterClock:
    """How an adapter's clock stands to this machine's.

    What takes the shortest way tells it; as the two drift apart, ever so slowly, the shortest way known is forgotten.
    """

    DRIFT = 200e-6
    """So much the adapter's clock may run slow or fast."""

    def __init__(self) -> None:
        self._last_ms: int | None = None
        self._last_at = 0
        self._offset = 0
        self._turns_ms = 0

    def times(self, stamps: Any, at_ns: int) -> Any:
        """Times in ns since 1970, shape (n,), of frames that were read at ``at_ns``; without stamps, that time."""
        times = np.full(len(stamps), at_ns, np.int64)
        rows = np.flatnonzero(stamps >= 0)
        if not len(rows):
            return times
        ms = stamps[rows]
        before = ms[0] if self._last_ms is None else self._last_ms
        passed = np.diff(np.concatenate([[before], ms]))
        # A little backwards is a little backwards: what waited for each other. Else a minute has passed.
        turned = passed < -WRAP_MS // 2
        turns = self._turns_ms + np.cumsum(turned) * WRAP_MS
        if self._last_ms is not None:
            # Whole minutes without a frame are seen by this machine's clock alone.
            silent = (at_ns - self._last_at) // 1_000_000 - (int(turns[0] + ms[0]) - self._turns_ms - self._last_ms)
            turns += round(silent / WRAP_MS) * WRAP_MS if silent > WRAP_MS // 2 else 0
        device = (turns + ms) * 1_000_000
        offset = at_ns - int(device.max())
        if self._last_ms is None or abs(offset - self._offset) > WRAP_MS * 500_000:
            self._offset = offset
        else:
            allowed = int((at_ns - self._last_at) * self.DRIFT)
            self._offset = min(self._offset + allowed, offset)
        self._turns_ms, self._last_ms, self._last_at = int(turns[-1]), int(ms[-1]), at_ns
        times[rows] = device + self._offset
        return times
