"""Changes of payload from one frame to the next: what boundaries of fields are seen by."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from keel.model.frames import Bytes, Mask

MOST = 2000
RARE = 300
"""Every change of a bit that changes no more often than this is looked at."""


@dataclass(frozen=True, eq=False)
class Transitions:
    """Payloads before and after a change, shape (n, bytes); ``still`` frames changed nothing."""

    before: Bytes
    after: Bytes
    still: int

    @property
    def flips(self) -> npt.NDArray[np.int64]:
        """How often each bit flips, shape (8 × bytes,)."""
        moved = np.unpackbits(self.before ^ self.after, axis=1, bitorder="little")
        return np.asarray(moved.sum(axis=0, dtype=np.int64))


def transitions(payloads: Bytes, cleared: Mask | None = None) -> Transitions:
    """The changes of an identifier's payloads, one frame after another; at most about `MOST` of them.

    Args:
        payloads: Shape (n, bytes).
        cleared: Bits to leave out (counters, checksums), shape (8 × bytes,).

    Where there are more, they are taken at even distances, and all those in which a bit moves that seldom does.
    """
    rows = payloads
    if cleared is not None and cleared.any():
        rows = rows & np.packbits(~cleared, bitorder="little")
    changed = np.flatnonzero((rows[1:] != rows[:-1]).any(axis=1))
    still = len(rows) - 1 - len(changed)
    if len(changed) > MOST:
        moved = np.unpackbits(rows[changed] ^ rows[changed + 1], axis=1, bitorder="little")
        rare = moved.sum(axis=0) <= RARE
        chosen = np.asarray(moved[:, rare].any(axis=1))
        chosen[:: len(changed) // MOST + 1] = True
        still = still * int(chosen.sum()) // len(changed)
        changed = changed[chosen]
    return Transitions(rows[changed], rows[changed + 1], max(still, 0))
