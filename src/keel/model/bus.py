"""A bus: its name and how fast it runs."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from keel.model.frames import FrameBatch
from keel.model.units import NS_PER_S


@dataclass(frozen=True)
class Bus:
    """A bus of a recording. Rates are in bit/s; ``fast_bit_rate`` is that of the CAN FD data phase."""

    name: str
    bit_rate: int = 500_000
    fast_bit_rate: int = 2_000_000


def wire_ns(batch: FrameBatch, buses: list[Bus]) -> npt.NDArray[np.float64]:
    """Time on the wire of each frame in nanoseconds, shape (n,), at the bit rates of ``buses``."""
    slow = np.array([NS_PER_S / b.bit_rate for b in buses] or [0.0])
    fast = np.array([NS_PER_S / b.fast_bit_rate for b in buses] or [0.0])
    time: npt.NDArray[np.float64] = batch.bits * slow[batch.bus] + batch.fast_bits * fast[batch.bus]
    return time
