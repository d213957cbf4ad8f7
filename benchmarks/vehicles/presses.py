"""What a press can do: a bit stands while it is held, flips and stays, stands for a moment, a number takes the next
value, frames are sent only then. Each put into the traffic of a random vehicle that knows nothing of it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from benchmarks.vehicles.traffic import START, guard
from benchmarks.vehicles.vehicle import Vehicle
from benchmarks.vehicles.world import Floats, Rng
from keel.hunt.carriers import carriers_of
from keel.hunt.columns import Column
from keel.hunt.structure import structure_of
from keel.hunt.traffic import Traffic
from keel.model.fields import BitField, insert
from keel.model.frames import Bytes
from keel.model.span import Span
from keel.model.units import NS_PER_S

Shape = Literal["hold", "step", "toggle", "pulse", "frames"]
SHAPES: tuple[Shape, ...] = ("hold", "step", "toggle", "pulse", "frames")
AMOUNTS = (1, 2, 3, 5, 8)
STATES = 5
OFF_S = (0.2, 0.5)
"""By how much a person marks early or late."""
SLOWEST_S, SLOWEST_FOR_A_PULSE_S = 0.5, 0.05


@dataclass(frozen=True, eq=False)
class Pressed:
    """What was done, in seconds from the start: each press (n, 2), and which of them were marked."""

    presses: Floats
    marked: np.ndarray[tuple[int], np.dtype[np.bool_]]

    def marks(self, rng: Rng) -> list[Span]:
        """The spans as a person marks them."""
        spans = []
        for low, high in self.presses[self.marked]:
            a, b = (t + rng.uniform(*OFF_S) * rng.choice([-1, 1]) for t in (low, high))
            spans.append(Span(START + int(a * NS_PER_S), START + int(max(b, a + 0.15) * NS_PER_S)))
        return spans


@dataclass(frozen=True, eq=False)
class Pressing:
    """A vehicle in which something was pressed; ``field`` is None where its frames are all there is."""

    traffic: Traffic
    key: int
    field: BitField | None


def press(rng: Rng, seconds: float, shape: Shape, amount: int) -> Pressed:
    """Presses at times of their own; now and then some that nobody marked."""
    more = int(rng.integers(1, amount + 1)) if rng.random() < 0.4 else 0
    count = amount + more
    longest = min(14.0, (seconds - 12) / count)
    gaps = rng.uniform(0.55, 1.0, count) * longest
    lengths = np.minimum(rng.uniform(0.8, 4.0, count), gaps * 0.4)
    if shape in ("toggle", "step"):
        lengths = np.minimum(lengths, rng.uniform(0.3, 1.5, count))
    begins = rng.uniform(4, max(seconds - 6 - gaps.sum(), 4.1)) + np.cumsum(gaps) - gaps[0]
    marked = np.zeros(count, np.bool_)
    marked[rng.permutation(count)[:amount]] = True
    return Pressed(np.stack([begins, begins + lengths], axis=1), marked)


def put_in(rng: Rng, vehicle: Vehicle, traffic: Traffic, shape: Shape, pressed: Pressed) -> Pressing | None:
    """The traffic with a field, or frames, that do what the presses do; None if no message has room."""
    if shape == "frames":
        column = _frames(rng, vehicle, pressed)
        return Pressing(_with(traffic, column), column.key, None)
    host = _host(rng, vehicle, 3 if shape == "step" else 1, SLOWEST_FOR_A_PULSE_S if shape == "pulse" else SLOWEST_S)
    if host is None:
        return None
    key, field = host
    column = vehicle.sent[key].column
    seconds = (column.times - START) / NS_PER_S
    values = _values(rng, shape, pressed, seconds)
    made = _written(vehicle, key, field, values)
    found = _with(traffic, made)
    if shape == "hold" and rng.random() < 0.4:
        follower = _follower(rng, vehicle, key, pressed)
        found = found if follower is None else _with(found, follower)
    return Pressing(found, key, field)


def _values(rng: Rng, shape: Shape, pressed: Pressed, seconds: Floats) -> np.ndarray[tuple[int], np.dtype[np.int64]]:
    """What the field says at some moments."""
    low, high = pressed.presses.T
    late = rng.uniform(0.0, 0.12)
    if shape == "hold":
        before = np.searchsorted(low + late, seconds, "right") - np.searchsorted(high + late, seconds, "right")
        return np.asarray(before)
    if shape == "pulse":
        at = low + rng.uniform(0, 1, len(low)) * np.maximum(high - low - 0.3, 0)
        length = rng.uniform(0.05, 0.3, len(low))
        return np.asarray(np.searchsorted(at, seconds, "right") - np.searchsorted(at + length, seconds, "right"))
    # The press does it, or letting go.
    moments = (low if rng.random() < 0.7 else high) + late
    done = np.searchsorted(moments, seconds, "right")
    return np.asarray((done + rng.integers(0, 8)) % (2 if shape == "toggle" else STATES))


def _host(rng: Rng, vehicle: Vehicle, bits: int, slowest_s: float) -> tuple[int, BitField] | None:
    """A message with so many free bits in a row, within a byte."""
    keys = list(vehicle.sent)
    rng.shuffle(keys)
    for key in keys:
        layout = vehicle.sent[key].layout
        if layout.event or layout.selector is not None or layout.cycle_s > slowest_s or layout.of_kind("text"):
            continue
        free = np.ones(layout.bytes * 8, np.bool_)
        for placed in layout.placed:
            free[list(placed.field.bits)] = False
        starts = [b for b in range(len(free) - bits + 1) if b % 8 <= 8 - bits and free[b : b + bits].all()]
        if starts:
            return key, BitField(int(rng.choice(starts)), bits)
    return None


def _written(vehicle: Vehicle, key: int, field: BitField, values: np.ndarray[tuple[int], np.dtype[np.int64]]) -> Column:
    column = vehicle.sent[key].column
    rows: Bytes = column.payloads.copy()
    insert(field, rows, values)
    guard(vehicle.sent[key].layout, rows)
    return replace(column, payloads=rows)


def _follower(rng: Rng, vehicle: Vehicle, taken: int, pressed: Pressed) -> Column | None:
    """A quantity that follows what is pressed: a pressure, a current."""
    host = _host(rng, vehicle, 8, 0.2)
    if host is None or host[0] == taken:
        return None
    seconds = (vehicle.sent[host[0]].column.times - START) / NS_PER_S
    level = np.zeros(len(seconds))
    for low, high in pressed.presses:
        rise = np.clip((seconds - low) / rng.uniform(0.2, 0.6), 0, 1) * np.clip((high + 0.25 - seconds) / 0.25, 0, 1)
        level = np.maximum(level, rise * rng.uniform(60, 200))
    noise = rng.normal(0, 2.0, len(seconds)) * (level > 0)
    return _written(vehicle, *host, np.clip(level + noise, 0, 255).astype(np.int64))


def _frames(rng: Rng, vehicle: Vehicle, pressed: Pressed) -> Column:
    """An identifier that is sent while something is pressed, or once or twice when it is."""
    key = max(vehicle.sent) + int(rng.integers(1, 9))
    times = []
    cycle, once = rng.uniform(0.02, 0.1), rng.random() < 0.5
    for low, high in pressed.presses:
        here = np.arange(low + 0.03, high, cycle)
        times.append(here[: int(rng.integers(1, 4))] if once else here)
    seconds = np.concatenate(times)
    rows = np.tile(rng.integers(0, 256, 8).astype(np.uint8), (len(seconds), 1))
    if rng.random() < 0.5:
        rows[:, 7] = np.arange(len(rows)) & 0xF
    return Column(key, (START + seconds * NS_PER_S).astype(np.int64), rows)


def _with(traffic: Traffic, column: Column) -> Traffic:
    """The traffic with other frames of one identifier."""
    columns = dict(sorted({**traffic.columns, column.key: column}.items()))
    structures = {**traffic.structures, column.key: structure_of(column)}
    others = [c for c in traffic.carriers if c.key != column.key]
    return Traffic(
        columns, structures, others + carriers_of({column.key: column}, {column.key: structures[column.key]})
    )


def cases(seed: int) -> Iterator[tuple[Shape, int]]:
    """Shapes and amounts to try on one vehicle: of each shape two amounts, all of them over five vehicles."""
    for number, shape in enumerate(SHAPES):
        for step in (0, 2):
            yield shape, AMOUNTS[(seed + number + step) % len(AMOUNTS)]
