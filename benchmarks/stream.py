"""A long stream, made up: 60 identifiers on two buses, 8 and 64 byte payloads, counters, slow values, checksums."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np

from keel.lines.can import with_wire_bits
from keel.model.bus import Bus
from keel.model.frames import Flag, FrameBatch, batch_of, concat, replace_columns
from keel.model.identity import Form
from keel.model.units import NS_PER_S
from keel.store.manifest import Manifest
from keel.store.writer import Writer, create_recording

BUSES = [Bus("a", 500_000, 2_000_000), Bus("b", 250_000, 250_000)]
START = 1_700_000_000 * NS_PER_S
CYCLES_MS = (5, 10, 10, 20, 20, 50, 50, 100, 100, 200)
LONG = (3, 17, 31, 45)
"""Which senders send 64 bytes."""


class Sender:
    """One identifier: its times and payloads, block by block."""

    def __init__(self, number: int) -> None:
        self.random = np.random.default_rng(number)
        self.bus = number % 2
        self.extended = self.bus == 1
        self.ident = 0x18FE0000 + number * 0x100 if self.extended else 0x100 + number * 8
        self.cycle = CYCLES_MS[number % len(CYCLES_MS)] * 1_000_000
        self.size = 64 if number in LONG else 8
        self.next = START + int(self.random.integers(0, self.cycle))
        self.sent = 0
        self.value = int(self.random.integers(0, 60_000))

    def until(self, end: int) -> FrameBatch:
        """Its frames before ``end`` that were not given yet."""
        n = max(-(-(end - self.next) // self.cycle), 0)
        times = self.next + np.arange(n) * self.cycle + self.random.integers(0, self.cycle // 50, n)
        times = np.minimum(times, end - 1)
        self.next += n * self.cycle
        payloads = np.zeros((n, self.size), np.uint8)
        payloads[:, 0] = (self.sent + np.arange(n)) & 0x0F
        steps = self.random.integers(-2, 3, n) * (self.random.random(n) < 0.3)
        values = (self.value + np.cumsum(steps)) & 0xFFFF
        self.value = int(values[-1]) if n else self.value
        payloads[:, 1:3] = values.astype(">u2").view(np.uint8).reshape(n, 2)
        payloads[:, 3] = values >> 6 & 0xFF
        payloads[:, 4] = 0xB0 if self.ident % 3 == 0 else 0x20
        if self.size == 64:
            payloads[:, 8:40] = (values[:, None] + np.arange(32) * 7) >> 4 & 0xFF
        payloads[:, 7] = payloads[:, :7].sum(axis=1) & 0xFF
        self.sent += n

        return batch_of(
            times.astype(np.int64),
            self.ident,
            payloads,
            bus=self.bus,
            form=Form.EXTENDED if self.extended else Form.BASE,
            flags=int(Flag.FD | Flag.BRS) if self.size == 64 else 0,
        )


def blocks(frames: int, identifiers: int = 60) -> Iterator[FrameBatch]:
    """So many frames in order of time, block by block."""
    senders = [Sender(number) for number in range(identifiers)]
    rate = sum(NS_PER_S / s.cycle for s in senders)
    step = int(500_000 / rate * NS_PER_S)
    end, given = START, 0
    random = np.random.default_rng(7)
    while given < frames:
        end += step
        batch = concat([s.until(end) for s in senders])
        batch = batch.take(np.argsort(batch.time, kind="stable"))
        faults = np.where(random.random(len(batch)) < 2e-5, 1, 0).astype(np.uint32)
        batch = with_wire_bits(replace_columns(batch, faults=faults))
        batch = batch.slice(0, min(len(batch), frames - given))
        given += len(batch)
        yield batch


def make_stream(folder: Path, frames: int) -> Path:
    """A recording of so many frames."""
    create_recording(folder, Manifest(folder.stem, "made up", START, list(BUSES)))
    writer = Writer(folder, journal=False)
    for batch in blocks(frames):
        writer.append(batch)
    writer.close()
    return folder
