"""Fields that the structure did not foresee: windows of any bits that follow a series far better than its fields do."""

from __future__ import annotations

import numpy as np

from keel.hunt.carriers import Carrier, Floats
from keel.hunt.columns import Column
from keel.hunt.structure import Piece
from keel.hunt.traffic import Traffic
from keel.hunt.windows import fit_windows
from keel.model.fields import BitField, extract
from keel.model.frames import Times
from keel.model.units import NS_PER_S

BETTER = 0.3
"""A window must leave no more than this share of what the best known field of its identifier leaves."""
LEAST_FIT = 0.95
MOST = 12
PRICE_NATS = 13.0
"""The logarithm of half a million: so many windows were tried."""


def unforeseen(
    traffic: Traffic, times: Times, values: Floats, offsets: Floats, known: dict[int, float]
) -> list[Carrier]:
    """Windows that follow the values much better than what is known.

    Args:
        traffic: The frames.
        times, values: The series, shape (n,).
        offsets: Offsets of its clock to try, in seconds.
        known: The best fit so far of each identifier, by key.
    """
    found: list[tuple[float, Carrier]] = []
    for key, column in traffic.columns.items():
        # Pages, counters and checksums are for the structure to tell apart.
        if traffic.structures[key].selector is not None or not column.payloads.shape[1]:
            continue
        best: tuple[float, Carrier] | None = None
        for offset in offsets.tolist():
            moments = times - round(offset * NS_PER_S)
            inside = (moments >= column.times[0]) & (moments <= column.times[-1])
            if inside.sum() < 20:
                continue
            rows = np.searchsorted(column.times, moments[inside], "right") - 1
            bound = max(1 - BETTER * (1 - known.get(key, 0.0)), LEAST_FIT, best[0] if best else 0.0)
            fits = fit_windows(column.payloads[rows], values[inside])
            if fits.fits.max() <= bound:
                continue
            ((field, _, fit),) = fits.best(1)
            if not _guards(traffic, key, field.bits):
                best = (fit, _carrier(key, column, field))
        if best is not None:
            found.append(best)
    found.sort(key=lambda pair: -pair[0])
    return [carrier for _, carrier in found[:MOST]]


def _guards(traffic: Traffic, key: int, bits: tuple[int, ...]) -> bool:
    """Whether a window takes bits of a counter or a checksum."""
    taken = {b for p in traffic.structures[key].pieces if p.kind in ("counter", "checksum") for b in p.field.bits}
    return bool(taken & set(bits))


def _carrier(key: int, column: Column, field: BitField) -> Carrier:
    piece = Piece(field, "value", moving=field.bits)
    return Carrier(key, piece, column.times, extract(field, column.payloads))
