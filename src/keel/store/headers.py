"""The least and the greatest number of each header field, by identifier: so that most need not be looked at."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from keel.media.every import MEDIA, medium_of_form
from keel.model.frames import FrameBatch, Rows, Times
from keel.model.identity import Keys

LEAST, MOST = np.iinfo(np.int64).min, np.iinfo(np.int64).max


@dataclass(frozen=True, eq=False)
class HeaderBounds:
    """Of each identifier and each field of its medium, in the medium's order; both of shape (r, fields).

    Where no frame has a field, or it is too wide for a number, the least is greater than the most, or the bounds say
    nothing (`LEAST`, `MOST`).
    """

    least: Times
    most: Times


def laid_out() -> str:
    """How bounds are laid out: all fields of all media. Those that were kept under another layout are made anew."""
    return ";".join(f"{medium.name}:{','.join(field.name for field in medium.fields)}" for medium in MEDIA)


def header_bounds(batch: FrameBatch, keys: Keys, starts: Rows) -> HeaderBounds | None:
    """The bounds of clustered frames; None if no frame has a header.

    Args:
        batch: Stored rows, clustered.
        keys: The identifiers, shape (r,).
        starts: Where each one's rows begin, shape (r + 1,).
    """
    if batch.header is None or not len(keys):
        return None
    forms = (keys >> np.uint64(48) & np.uint64(0xFF)).astype(np.int64)
    media = {form: medium_of_form(form) for form in np.unique(forms).tolist()}
    width = max((len(medium.fields) for medium in media.values() if medium is not None), default=0)
    least, most = np.full((len(keys), width), MOST), np.full((len(keys), width), LEAST)
    for form, medium in media.items():
        runs = np.flatnonzero(forms == form)
        # Identifiers of one form lie together on one bus.
        for low, high in _stretches(runs):
            rows = slice(int(starts[low]), int(starts[high]))
            begins = starts[low:high] - starts[low]
            for place, field in enumerate(medium.fields if medium is not None else ()):
                if not field.is_number:
                    least[low:high, place], most[low:high, place] = LEAST, MOST
                    continue
                numbers, there = field.numbers(batch.header[rows])
                least[low:high, place] = np.minimum.reduceat(np.where(there, numbers, MOST), begins)
                most[low:high, place] = np.maximum.reduceat(np.where(there, numbers, LEAST), begins)
    return HeaderBounds(least, most)


def _stretches(runs: Any) -> list[tuple[int, int]]:
    """Neighbouring numbers as ranges."""
    edges = np.flatnonzero(np.diff(runs) != 1) + 1
    return [(int(part[0]), int(part[-1]) + 1) for part in np.split(runs, edges) if len(part)]
