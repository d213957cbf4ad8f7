"""A vehicle's drive as a recording on disk."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from benchmarks.vehicles.traffic import START
from keel.hunt.columns import Column
from keel.lines.can import with_wire_bits
from keel.model.bus import Bus
from keel.model.frames import LENGTH_TO_DLC, FrameBatch, batch_of, concat
from keel.model.identity import unpack_key
from keel.store.manifest import Manifest
from keel.store.writer import Writer, create_recording


def record(columns: dict[int, Column], folder: Path) -> Path:
    """Write the frames of some columns as a recording on buses a and b."""
    batches = []
    for key, column in columns.items():
        bus, form, ident = unpack_key(key)
        n, size = column.payloads.shape
        batch: FrameBatch = batch_of(
            column.times,
            np.full(n, ident, np.uint64),
            column.payloads,
            bus=np.full(n, bus, np.uint8),
            form=np.full(n, form, np.uint8),
            dlc=np.full(n, LENGTH_TO_DLC[size], np.uint8),
        )
        batches.append(batch)
    whole = concat(batches)
    whole = with_wire_bits(whole.take(np.argsort(whole.time, kind="stable")))
    create_recording(
        folder, Manifest(folder.stem, "made up", START, [Bus("a", 500_000, 2_000_000), Bus("b", 250_000, 250_000)])
    )
    writer = Writer(folder, journal=False)
    writer.append(whole)
    writer.close()
    return folder
