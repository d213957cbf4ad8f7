"""A bus: its name, what kind of line it is, and how fast it runs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

from keel.model.extensible import Extensible
from keel.model.safe_text import plain
from keel.model.units import NS_PER_S

STAMPS = ("start", "end")
LEAST_RATE, MOST_RATE = 1, 100_000_000_000
"""Bit rates that a bus may be said to have."""
MOST_BUSES = 255
"""So many buses a recording may have; frames of more are lost, and said to be."""


@dataclass(frozen=True)
class Bus(Extensible):
    """A bus of a recording.

    Attributes:
        bit_rate, fast_bit_rate: In bit/s; the second is that of the CAN FD data phase.
        medium: What kind of line it is, as `keel.media` names them.
        stamp: Whether times are of the start or the end of frames.
        assumed, fast_assumed: Whether nobody said so far what the bit rates are.
    """

    name: str
    bit_rate: int = 500_000
    fast_bit_rate: int = 2_000_000
    medium: str = "can"
    stamp: str = "end"
    assumed: bool = True
    fast_assumed: bool = True

    def __post_init__(self) -> None:
        if self.stamp not in STAMPS or not all(LEAST_RATE <= rate <= MOST_RATE for rate in self.rates):
            raise ValueError(f"no bus has the bit rates {self.rates} and stamps at the {self.stamp}")

    @property
    def rates(self) -> tuple[int, int]:
        """Both bit rates."""
        return self.bit_rate, self.fast_bit_rate


@dataclass(frozen=True)
class Rates:
    """The bit rates that were named: of all buses, or of one by its name; None where none was."""

    bit_rate: int | None = None
    fast_bit_rate: int | None = None
    of: Mapping[str, int] = field(default_factory=dict)
    fast_of: Mapping[str, int] = field(default_factory=dict)

    def bus(self, name: str, medium: str = "can") -> Bus:
        """A bus of a name, at the rates that were named."""
        usual = Bus(name)
        slow, fast = self.of.get(name, self.bit_rate), self.fast_of.get(name, self.fast_bit_rate)
        rates = slow or usual.bit_rate, fast or usual.fast_bit_rate
        return Bus(name, *rates, medium=medium, assumed=slow is None, fast_assumed=fast is None)

    def named(self, buses: Sequence[Bus]) -> list[str]:
        """The names of the buses whose rate was named."""
        return [bus.name for bus in buses if self.bit_rate is not None or bus.name in self.of]


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
