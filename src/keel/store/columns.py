"""Which columns of frames are kept: one that is 0 throughout says nothing and is left out.

So recordings of CAN alone pay nothing for what other lines need, and recordings without faults nothing for faults.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from keel.model.frames import COLUMNS, OPTIONAL, FrameBatch

ALWAYS = ("time", "bus", "form", "ident")
"""Columns that are kept whatever stands in them."""
_zeros: dict[str, Any] = {}


def worth_keeping(batch: FrameBatch) -> dict[str, Any]:
    """The columns of a batch that are to be kept, by name; payloads aside."""
    columns = {name: getattr(batch, name) for name in COLUMNS} | batch.extras()
    return {name: column for name, column in columns.items() if name in ALWAYS or column.any()}


def with_all_columns(kept: dict[str, Any]) -> FrameBatch:
    """Frames from the columns that were kept, payloads among them; others are 0, and columns of others passed over."""
    n = len(kept["time"])
    columns = {name: kept[name] if name in kept else zeros(n, kind) for name, kind in COLUMNS.items()}
    extras = {name: kept[name] for name in OPTIONAL if name in kept}
    if "header" in extras:
        extras["header"] = extras["header"].reshape(n, -1)
    return FrameBatch(**columns, offsets=kept["offsets"], data=kept["data"], **extras)


def zeros(n: int, kind: Any) -> Any:
    """So many zeros, shared by all who need some; they are not to be written to."""
    name = np.dtype(kind).str
    known = _zeros.get(name)
    if known is None or len(known) < n:
        known = np.zeros(max(n, 1 << 20), kind)
        known.setflags(write=False)
        _zeros[name] = known
    return known[:n]
