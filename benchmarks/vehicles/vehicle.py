"""A random vehicle, its drives, and the people and instruments that watch it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from benchmarks.vehicles.layout import Layout, Placed, lay_out
from benchmarks.vehicles.traffic import START, Sent, send_all
from benchmarks.vehicles.world import STEP_S, Floats, World, drive
from keel.hunt.columns import Column
from keel.model.fields import extract
from keel.model.span import Span
from keel.model.units import NS_PER_S


@dataclass(eq=False)
class Vehicle:
    """A vehicle on a drive: the world, the messages, the frames."""

    seed: int
    world: World
    messages: list[Layout]
    sent: dict[int, Sent]

    @property
    def columns(self) -> dict[int, Column]:
        """The frames as the hunt takes them."""
        return {key: sent.column for key, sent in sorted(self.sent.items())}

    def carriers(self, family: str) -> list[tuple[int, Placed]]:
        """The fields that carry a quantity or a copy of it, those that move."""
        found = []
        for key, sent in self.sent.items():
            for placed in sent.layout.placed:
                if placed.quantity and self.world.quantities[placed.quantity].family == family:
                    found.append((key, placed))
        return found


def vehicle(seed: int, which_drive: int = 0, seconds: float | None = None) -> Vehicle:
    """The vehicle of a seed, on one of its drives."""
    has = np.random.default_rng([seed, 1])
    length = float(has.uniform(120, 300)) if seconds is None else seconds
    happening = np.random.default_rng([seed, 2, which_drive])
    world = drive(np.random.default_rng([seed, 3]), happening, length)
    messages = lay_out(np.random.default_rng([seed, 4]), world)
    return Vehicle(seed, world, messages, send_all(np.random.default_rng([seed, 5, which_drive]), messages, world))


def moving_bits(vehicle: Vehicle, key: int, placed: Placed) -> set[int]:
    """The bits of a field that take both values in this drive."""
    column = vehicle.sent[key].column
    rows = column.payloads
    selector = vehicle.sent[key].layout.selector
    if placed.page is not None and selector is not None:
        rows = rows[extract(selector.field, rows) == placed.page]
    if not len(rows):
        return set()
    bits = np.unpackbits(rows, axis=1, bitorder="little")
    return {b for b in placed.field.bits if bits[:, b].min() != bits[:, b].max()}


def readings_of(
    rng: np.random.Generator, world: World, name: str, values: Floats | None = None
) -> list[tuple[int, float]]:
    """What a person reads off a display: late, rounded, now and then wrong. (time in ns, value)"""
    values = world.quantities[name].values if values is None else values
    count = int(rng.integers(7, 15))
    times = np.sort(rng.uniform(4, world.seconds - 2, count))
    lag = rng.uniform(0.1, 0.8)
    spread = float(values.max() - values.min())
    step = 10.0 ** np.floor(np.log10(max(spread, 1e-6) / 15))
    read = np.rint(values[((times - lag) / STEP_S).astype(int)] / step) * step
    for i in range(count):
        if rng.random() < 1 / 15:
            read[i] += float(rng.choice([-1, 1])) * spread * rng.uniform(0.2, 0.6)
            if rng.random() < 0.5:
                read[i] = np.rint(read[i] / step) * step
    return [(START + int(t * NS_PER_S), float(v)) for t, v in zip(times, read, strict=True)]


def series_of(rng: np.random.Generator, world: World, name: str) -> tuple[list[tuple[int, float]], float]:
    """What another instrument logged, and by how many seconds its clock is off."""
    values = world.quantities[name].values
    rate = float(rng.choice([1, 2, 5, 10, 20]))
    length = world.seconds * rng.uniform(0.4, 0.95)
    begin = rng.uniform(0, world.seconds - length)
    times = np.arange(begin, begin + length, 1 / rate)
    off = float(rng.uniform(-2, 2))
    spread = float(values.max() - values.min())
    read = values[np.clip((times / STEP_S).astype(int), 0, len(values) - 1)] + rng.normal(0, 0.004 * spread, len(times))
    return [(START + int((t + off) * NS_PER_S), float(v)) for t, v in zip(times, read, strict=True)], off


def marks_of(rng: np.random.Generator, moments: list[tuple[float, float]]) -> list[Span]:
    """Spans as a person marks them: 0.2 to 0.5 s off at both ends."""

    def off() -> float:
        return float(rng.uniform(0.2, 0.5) * rng.choice([-1, 1]))

    return [
        Span(START + int((a + off()) * NS_PER_S), START + int(max(b + off(), a + 0.3) * NS_PER_S)) for a, b in moments
    ]
