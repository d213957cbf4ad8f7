"""The single wire between the ramp's push-button panel and its controller, and the voltage of the ramp's motor.

Nobody wrote down what the panel says: 31, a code for the button, the sum; the controller repeats it behind B1.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
import numpy.typing as npt

from keel.bench.wires import serial_line
from keel.model.frames import Times
from keel.model.waveform import Logic

Floats = npt.NDArray[np.float64]
RATE = 7_800.0
PANEL, CONTROLLER = 0x31, 0xB1
CODES = {0: 0x00, 1: 0x5A, 2: 0xA5}
"""What the panel says by what is pressed: nothing, up, down."""
ANSWERS_NS, STARTS_NS, STOPS_NS = 9_000_000, 38_000_000, 12_000_000
"""The controller answers so long after the panel's message began, and the motor follows that."""
RESTS_V, RUNS_V, INRUSH_V, INRUSH_NS, BACK_V, BACK_NS = 12.4, 10.7, 2.3, 60e6, 0.35, 25e6


def panel_line(times: Times, commands: Sequence[int], start_ns: int, end_ns: int, seed: int) -> Logic:
    """The wire.

    Args:
        times: When the panel speaks, in ns, shape (n,).
        commands: What it says is pressed: 0 nothing, 1 up, 2 down.
        start_ns, end_ns: What is recorded.
        seed: Of the jitter.
    """
    messages = []
    for time, command in zip(times.tolist(), commands, strict=True):
        code = CODES[command]
        for late, first in ((0, PANEL), (ANSWERS_NS, CONTROLLER)):
            said = bytes([first, code])
            messages.append((time + late, said + bytes([sum(said) & 0xFF])))
    return serial_line(messages, RATE, start_ns, end_ns, seed)


def motor_volts(times: Times, commands: Sequence[int], start_ns: int) -> Callable[[Floats], Floats]:
    """The motor's supply over time: it drops when the motor starts, and comes back when it stops.

    Args:
        times, commands: As `panel_line` has them.
        start_ns: What is recorded begins here.

    Returns:
        Volts at times in ns from there on.
    """
    turns = [(times[0], 0)] if len(times) else []
    for time, command in zip(times.tolist(), commands, strict=True):
        if int(command != 0) != turns[-1][1]:
            turns.append((time + (STARTS_NS if command else STOPS_NS), int(command != 0)))
    when = np.array([time - start_ns for time, _ in turns], np.float64)
    runs = np.array([running for _, running in turns], np.int64)

    def volts(at: Floats) -> Floats:
        if len(when) < 2:
            return np.full(len(at), RESTS_V)
        place = np.maximum(np.searchsorted(when, at, side="right") - 1, 0)
        since = np.where(place > 0, at - when[place], 1e12)
        running = runs[place] == 1
        started = RUNS_V - INRUSH_V * np.exp(-np.minimum(since / INRUSH_NS, 50))
        stopped = RESTS_V + BACK_V * np.exp(-np.minimum(since / BACK_NS, 50))
        return np.where(running, started, np.where(place > 0, stopped, RESTS_V))

    return volts
