"""Loads the compiled parts, and the grammar of the ask, behind the first picture; until they are there, the same is
done more slowly."""

from __future__ import annotations

from typing import Any


def warm_up() -> None:
    """Load the compiled parts, and the grammar of the ask; until they are there, the same is done more slowly.

    Compiled code is loaded for the types it is called with: here those of rows in memory, and of a segment's.
    """
    import numpy as np

    import keel.measure.flips
    import keel.measure.peaks  # noqa: F401
    from keel.ask.language import parse
    from keel.ask.patterns import find_pattern
    from keel.model.accelerated import load_all
    from keel.model.frames import COLUMNS, FrameBatch, batch_of
    from keel.store.summary import summarise

    load_all()
    parse("fault or id:1A0")
    one = batch_of(np.arange(4), 1, [b"ab"] * 4)
    columns = {name: getattr(one, name) for name in COLUMNS}
    mapped = {name: np.frombuffer(bytes(column), column.dtype) for name, column in columns.items()}
    offsets: Any = np.frombuffer(bytes(one.offsets.astype(np.int32)), np.int32)
    data = np.frombuffer(bytes(one.data), np.uint8)
    keys, low, high = np.ones(1, np.uint64), np.zeros(1, np.int64), np.full(1, 4)
    for batch in (one, FrameBatch(**mapped, offsets=offsets, data=data)):
        find_pattern(batch.data, batch.offsets, (None, 0x62))
        summarise(batch, keys, low, high)
        summarise(batch, keys, low, high, np.ones(4, np.bool_))
