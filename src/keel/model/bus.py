"""A bus: its name and how fast it runs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from keel.model.safe_text import plain
from keel.model.units import NS_PER_S

MOST_BUSES = 64
"""So many buses a recording may have; frames of more are lost, and said to be."""


@dataclass(frozen=True)
class Bus:
    """A bus of a recording. Rates are in bit/s; ``fast_bit_rate`` is that of the CAN FD data phase."""

    name: str
    bit_rate: int = 500_000
    fast_bit_rate: int = 2_000_000


def bus_name(text: str) -> str:
    """A name from outside as a bus may have it: harmless, and never empty."""
    return plain(text) or "bus"


def wire_ns(bus: Any, bits: Any, fast_bits: Any, buses: Sequence[Bus]) -> npt.NDArray[np.float64]:
    """Time on the wire in nanoseconds, shape (n,), at the bit rates of ``buses``.

    Args:
        bus: Bus indices, shape (n,).
        bits, fast_bits: Bits on the wire at the arbitration and at the data rate, shape (n,).
    """
    slow = np.array([NS_PER_S / b.bit_rate for b in buses] or [0.0])
    fast = np.array([NS_PER_S / b.fast_bit_rate for b in buses] or [0.0])
    time: npt.NDArray[np.float64] = bits * slow[bus] + fast_bits * fast[bus]
    return time
