"""Frames of a line by their columns: what line codes have in common when they hand over what they read."""

from __future__ import annotations

from typing import Any

import numpy as np

from keel.model.frames import FrameBatch, Times


def frames_of(
    times: Times, ends: Times, form: Any, ident: Any, offsets: Any, data: Any, faults: Any, flags: Any = 0,
    header: Any = None,
) -> FrameBatch:  # fmt: skip
    """Frames of bus 0 by their columns.

    Args:
        times, ends: In ns, shape (n,).
        form, ident, flags: A number for all, or shape (n,).
        offsets, data: The payloads, as a `FrameBatch` has them.
        faults: Fault bits, shape (n,).
        header: Their headers, shape (n, bytes); None without.
    """
    n, none = len(times), np.zeros(len(times), np.uint32)
    return FrameBatch(
        times, np.zeros(n, np.uint8), np.broadcast_to(np.asarray(form, np.uint8), n).copy(),
        np.broadcast_to(np.asarray(ident, np.uint64), n).copy(),
        np.broadcast_to(np.asarray(flags, np.uint16), n).copy(), np.asarray(faults, np.uint32),
        np.zeros(n, np.uint8), none, none.astype(np.uint16), np.asarray(offsets, np.uint32),
        np.asarray(data, np.uint8), header, np.maximum(ends - times, 0),
    )  # fmt: skip
