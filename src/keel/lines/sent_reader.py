"""SENT messages from the falling edges of a line: pulses measured against the calibration pulse that leads each.

Source: SAE J2716 (2016), 5.2.3 (calibration pulse, status, data, CRC, pause), 5.4.2 (CRC).
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

CALIBRATION, ZERO, LONGEST_PAUSE, NIBBLES = 56, 12, 770, 16
"""In ticks: the calibration pulse, that of a nibble of 0, a pause pulse at most; and so many nibbles there are."""
LEAST_TICK_NS, MOST_TICK_NS = 2_000.0, 120_000.0
"""3 to 90 µs, by 20 % and some more."""
OFF_A_TICK = 0.42
STEP = 1 / 64
"""Calibration pulses that follow each other differ by no more than that."""
CRC, OFF = 1, 2
SEED = 5
TABLE = np.array([0, 13, 7, 10, 14, 3, 9, 4, 1, 12, 6, 11, 15, 2, 8, 5], np.int64)
"""The remainders of a nibble by x⁴ + x³ + x² + 1."""


@njit(cache=True, nogil=True)
def read_messages(falls: Any, nibbles: Any, pause: Any, legacy: Any, table: Any, out: Any) -> Any:
    """Read all messages of so many data nibbles.

    Args:
        falls: Falling edges, in ns, shape (n,).
        nibbles: How many nibbles of data there are.
        pause: Whether a pause pulse follows the checksum.
        legacy: Whether the checksum ends with the last nibble, without a nibble of 0 behind it.
        table: `TABLE`.
        out: Filled with begin, end, status, data (nibble by nibble, the first one highest), faults, calibration in ns,
            end of the pause pulse if there is one, whether it follows the one before; shape (n, 8).

    Returns:
        How many messages there are.
    """
    n = 0
    i = 0
    last = 0.0
    expected = -1
    count = len(falls)
    while i + nibbles + 3 < count:
        pulse = np.float64(falls[i + 1] - falls[i])
        tick = pulse / CALIBRATION
        good = LEAST_TICK_NS <= tick <= MOST_TICK_NS
        data = np.int64(0)
        status = check = 0
        remainder = SEED
        k = 0
        while good and k < nibbles + 2:
            ticks = np.float64(falls[i + k + 2] - falls[i + k + 1]) / tick - ZERO
            value = np.int64(np.rint(ticks))
            good = 0 <= value < NIBBLES and abs(ticks - value) <= OFF_A_TICK
            if k == 0:
                status = value
            elif k <= nibbles:
                data = data << 4 | value
                remainder = value ^ table[remainder & 15]
            else:
                check = value
            k += 1
        if good:
            fits = check == (remainder if legacy else table[remainder & 15])
            drifts = last > 0 and abs(pulse / last - 1) > STEP
            # A message is one if its checksum fits, or if it stands where one has to.
            if fits or (i == expected and not drifts):
                faults = 0 if fits else CRC
                if i == expected and drifts:
                    faults |= OFF
                out[n, 0], out[n, 1], out[n, 2], out[n, 3] = falls[i], falls[i + nibbles + 3], status, data
                out[n, 4], out[n, 5] = faults, np.int64(np.rint(pulse))
                follows = i == expected
                i += nibbles + 3
                # A longer silence is no pause pulse: nobody asks just now.
                if pause and i + 1 < count and falls[i + 1] - falls[i] <= LONGEST_PAUSE * tick:
                    i += 1
                out[n, 6], out[n, 7] = falls[i], follows
                n += 1
                last = pulse
                expected = i
                continue
        i += 1
    return n
