"""The rudder sensor's wire: the angle again and again as nibbles, each by how long it lasts.

Source: SAE J2716 (2016), 5.2.3 (pulses of a message), 5.4.2 (CRC, recommended form).
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from keel.model.frames import Times
from keel.model.waveform import Logic

TICK_NS, LOW_TICKS, MESSAGE_TICKS = 3_000.0, 5, 300
ASKED_TICKS, ANSWER_TICKS = 21, 14
"""A request is so long, and so long after it the answer begins."""
CALIBRATION, ZERO, SEED, POLYNOMIAL = 56, 12, 0b0101, 0b1101


def _shifted(register: npt.NDArray[np.int64], nibble: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
    """Remainders by x⁴ + x³ + x² + 1 after one more nibble."""
    for k in range(3, -1, -1):
        register = register << 1 | nibble >> k & 1
        register = (register ^ np.where(register & 0x10, POLYNOMIAL, 0)) & 0xF
    return register


def sensor_line(
    times: Times, values: npt.NDArray[np.int64], start_ns: int, end_ns: int, seed: int = 1,
    asked: Times | None = None,
) -> Logic:  # fmt: skip
    """What a sensor says of 12 bits: them, and all of them inverted with the lowest nibble first.

    Args:
        times, values: When it measures what, ascending; shape (n,).
        start_ns, end_ns: What is recorded.
        seed: Of the jitter.
        asked: When it is asked, in ns, shape (m,): then alone it speaks; None: it speaks again and again.
    """
    tick = TICK_NS * 1.012
    begins = np.arange(start_ns + 40 * tick, end_ns, MESSAGE_TICKS * tick)
    if asked is not None:
        begins = asked + (ASKED_TICKS + ANSWER_TICKS) * tick
    now = values[np.clip(np.searchsorted(times, begins, side="right") - 1, 0, max(len(values) - 1, 0))] & 0xFFF
    other = now ^ 0xFFF
    nibbles = [now >> 8, now >> 4 & 15, now & 15, other & 15, other >> 4 & 15, other >> 8]
    register = np.full(len(now), SEED, np.int64)
    for nibble in [*nibbles, np.zeros(len(now), np.int64)]:
        register = _shifted(register, nibble)
    pulses = np.stack(
        [np.full(len(now), CALIBRATION), *(ZERO + n for n in (np.zeros_like(now), *nibbles, register))], 1
    )
    falls = np.concatenate([np.zeros((len(now), 1)), np.cumsum(pulses, axis=1)], axis=1) * tick + begins[:, None]
    falls = falls + np.random.default_rng([seed, 31]).normal(0, 20, falls.shape)
    edges = np.stack([falls, falls + LOW_TICKS * tick], axis=2).ravel() - start_ns
    length = end_ns - start_ns
    if asked is not None:
        # Who asks pulls the wire low for longer than the sensor does.
        low = asked - start_ns
        edges = np.sort(np.concatenate([edges, low, low + ASKED_TICKS * tick]))
    whole = np.rint(edges[(edges > 0) & (edges < length)]).astype(np.int64)
    return Logic(0, length, 1, whole)
