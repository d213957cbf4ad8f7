"""Two lines aboard that need a closer look: a node that nobody answers, and a receiver whose code nobody knows.

Source: ISO 11898-1:2015, 10.4.4 (error flags), 10.9 (an error-passive sender that nobody acknowledges goes on).
"""

from __future__ import annotations

import numpy as np

from keel.bench.wires import can_frame
from keel.model.waveform import Logic

ACTIVE, PASSIVE = 16, 24
"""So often a sender that nobody acknowledges is error active; and so often more it repeats before it is plugged in."""
ERROR_DELIMITER, INTERMISSION, SUSPENDED, FLAG = 8, 3, 8, 6
BEHIND_ACK = 8
"""Acknowledgement delimiter and end of frame: what an error flag comes in place of."""
SHORT_NS, LONG_NS, PAUSE_NS, BITS, TIMES = 320_000, 960_000, 9_000_000, 20, 4
"""A remote control's pulses, the silence between two of its messages, their length, how often each is said."""
BUTTONS = (0x8AC51, 0x8AC52, 0x8AC54)


def lone_line(ident: int, data: bytes, rate: float, end_ns: int) -> Logic:
    """A frame that is repeated until somebody acknowledges it, as a controller sees it; high is recessive."""
    bit = 1e9 / rate
    unanswered = can_frame(ident, False, 0, len(data), data, data, False)[0].tolist()[:-BEHIND_ACK]
    answered = can_frame(ident, False, 0, len(data), data, data, True)[0].tolist()
    levels = [1] * 60
    for number in range(ACTIVE + PASSIVE):
        levels += unanswered
        if number < ACTIVE:
            levels += [0] * FLAG + [1] * (ERROR_DELIMITER + INTERMISSION)
        else:
            # A passive flag is recessive: it is not seen, but for the time that it takes.
            levels += [1] * (FLAG + ERROR_DELIMITER + INTERMISSION + SUSPENDED)
    for _ in range(8):
        levels += answered + [1] * 500
    states = np.array(levels, np.int8)
    turned = np.flatnonzero(np.diff(states)) + 1
    edges = np.rint(turned * bit).astype(np.int64)
    return Logic(0, end_ns, 1, edges[edges < end_ns])


def remote_line(presses: list[int], end_ns: int, seed: int) -> Logic:
    """What a receiver of a remote control has: each press is a message, said some times, of short and long pulses."""
    random = np.random.default_rng(seed)
    edges: list[int] = []
    for number, press in enumerate(presses):
        at = press
        code = BUTTONS[(0, 0, 1, 0, 2, 1)[number % 6]]
        for _ in range(TIMES):
            for place in range(BITS - 1, -1, -1):
                high = LONG_NS if code >> place & 1 else SHORT_NS
                edges += [at, at + high + int(random.integers(-8_000, 8_000))]
                at += SHORT_NS + LONG_NS
            edges += [at, at + SHORT_NS]
            at += SHORT_NS + PAUSE_NS
    known = [edge for edge in edges if edge < end_ns]
    return Logic(0, end_ns, 0, np.array(known, np.int64))
