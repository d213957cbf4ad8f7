"""The auxiliary channel of the helm's display: requests and replies in Manchester code at 1 Mbit/s.

Source: IEEE 802.3-2018, 7.3.1.1 (the code: an edge up is a 1).
"""

from __future__ import annotations

from collections.abc import Iterable

from keel.bench.chips import Drive
from keel.model.waveform import Logic

HALF_NS = 500.0
AHEAD, SYNC_BITS = 16, 2
"""So many bits of 0 stand ahead; sync and stop last so many bits on each level."""


def aux_line(messages: Iterable[tuple[float, bytes]], length: int) -> Logic:
    """What messages do on the line.

    Args:
        messages: When each begins in ns, and its bytes.
        length: How long is recorded, in ns.
    """
    wire = Drive(0)
    for time, data in messages:
        at = time
        for bit in [0] * AHEAD:
            at = _bit(wire, at, bit)
        at = _long(wire, at)
        for byte in data:
            for place in range(7, -1, -1):
                at = _bit(wire, at, byte >> place & 1)
        wire.to(_long(wire, at), 0)
    return wire.line(length)


def _bit(wire: Drive, at: float, bit: int) -> float:
    wire.to(at, 1 - bit)
    wire.to(at + HALF_NS, bit)
    return at + 2 * HALF_NS


def _long(wire: Drive, at: float) -> float:
    """Sync, or stop."""
    wire.to(at, 1)
    wire.to(at + 2 * SYNC_BITS * HALF_NS, 0)
    return at + 4 * SYNC_BITS * HALF_NS
