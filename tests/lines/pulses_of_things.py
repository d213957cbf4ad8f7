"""What is on wires that are no line: clocks, duty cycles, tachometers, rails, pulses of all kinds. All made up."""

from __future__ import annotations

from collections.abc import Callable, Iterable

import numpy as np
import numpy.typing as npt

from keel.model.waveform import Logic

Floats = npt.NDArray[np.float64]


def of_widths(widths: Iterable[float], first: int = 0, rest: float = 1e6) -> Logic:
    """A wire that stays on each level for so many ns, in turn."""
    edges = np.rint(rest + np.concatenate([[0.0], np.cumsum(np.fromiter(widths, np.float64))])).astype(np.int64)
    return Logic(0, int(edges[-1] + rest), first, edges)


def square(frequency: float, count: int = 2_000, jitter: float = 0.0) -> Logic:
    half = 5e8 / frequency
    random = np.random.default_rng(1)
    return of_widths(half * (1 + jitter * random.normal(0, 1, 2 * count)))


def duty(period: float, shares: Floats) -> Logic:
    """Pulses of one period, each high for a share of it."""
    return of_widths(np.stack([period * shares, period * (1 - shares)], axis=1).ravel())


def tachometer(slow: float, fast: float, count: int = 1_500) -> Logic:
    """A wheel that speeds up: half of each turn high."""
    periods = 1e9 / np.linspace(slow, fast, count)
    return of_widths(np.repeat(periods / 2, 2))


def bursts_of_clock(frequency: float, cycles: int = 8, count: int = 100) -> Logic:
    half = 5e8 / frequency
    widths: list[float] = []
    for _ in range(count):
        widths += [half] * (2 * cycles - 1) + [40 * half]
    return of_widths(widths[:-1])


def dips(count: int = 40, seed: int = 3) -> Logic:
    """A supply that breaks down now and then, for some time."""
    random = np.random.default_rng(seed)
    return of_widths(random.exponential(1, 2 * count) * np.tile([2e6, 9e7], count) + 1e4, first=1)


def equal_pulses(length: float, count: int = 300, seed: int = 4) -> Logic:
    """Pulses of one length, whenever something passes by."""
    random = np.random.default_rng(seed)
    widths = np.stack([np.full(count, length), length * (2 + random.exponential(30, count))], axis=1).ravel()
    return of_widths(widths)


def two_lengths(unit: float, count: int = 600, seed: int = 5) -> Logic:
    """Bits as short and long pulses of one period."""
    random = np.random.default_rng(seed)
    return duty(3 * unit, np.where(random.integers(0, 2, count) == 1, 2 / 3, 1 / 3))


def servo(count: int = 200) -> Logic:
    """One to two milliseconds, fifty times a second."""
    return duty(2e7, np.linspace(0.05, 0.1, count))


def quadrature(count: int = 800, seed: int = 6) -> Logic:
    """One channel of a knob that somebody turns."""
    random = np.random.default_rng(seed)
    return of_widths(2e6 + 6e6 * np.abs(np.cumsum(random.normal(0, 0.1, count))))


def switch(count: int = 12, seed: int = 7) -> Logic:
    """A button that bounces."""
    random = np.random.default_rng(seed)
    widths: list[float] = []
    for _ in range(count):
        widths += [*random.exponential(3e5, 2 * int(random.integers(1, 5))).tolist(), 3e8, 5e8]
    return of_widths(widths[:-1])


THINGS: dict[str, Callable[[], Logic]] = {
    "square wave": lambda: square(1_000),
    "square wave at half a usual rate": lambda: square(4_800),
    "square wave that jitters": lambda: square(50_000, jitter=0.03),
    "a clock of 1 MHz": lambda: square(1_000_000, 5_000),
    "bursts of a clock": lambda: bursts_of_clock(1_000_000),
    "duty cycle of 30 %": lambda: duty(1e6, np.full(800, 0.3)),
    "duty cycle of a quarter": lambda: duty(4e5, np.full(800, 0.25)),
    "duty cycle that rises": lambda: duty(1e6, np.linspace(0.1, 0.9, 800)),
    "duty cycle in tenths": lambda: duty(1e6, np.repeat([0.1, 0.3, 0.5, 0.2, 0.7, 0.9], 120)),
    "duty cycle in tenths, at random": lambda: duty(1e6, np.random.default_rng(2).integers(1, 10, 600) / 10),
    "duty cycle of eight bits": lambda: duty(256e3, np.random.default_rng(2).integers(1, 255, 600) / 256),
    "tachometer": lambda: tachometer(80, 400),
    "tachometer at rest": lambda: tachometer(200, 201),
    "supply with dips": dips,
    "pulses of one length": lambda: equal_pulses(1e5),
    "bits as short and long pulses": lambda: two_lengths(4e5),
    "servo": servo,
    "knob": quadrature,
    "button that bounces": switch,
}  # fmt: skip
