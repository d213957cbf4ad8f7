"""How much of the truth about a vehicle a hunt found."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

import numpy as np

from benchmarks.vehicles.layout import Placed
from benchmarks.vehicles.vehicle import Vehicle, moving_bits
from keel.hunt.structure import Structure
from keel.model.fields import BitField, extract

OVERLAP = 0.75


def overlap(found: Iterable[int], truth: Iterable[int]) -> float:
    """Shared bits over all bits of the two."""
    a, b = set(found), set(truth)
    return len(a & b) / len(a | b) if a | b else 0.0


def truth_of(vehicle: Vehicle, key: int) -> list[tuple[Placed, set[int]]]:
    """The fields of an identifier that move, and their moving bits."""
    found = [(p, moving_bits(vehicle, key, p)) for p in vehicle.sent[key].layout.placed]
    if not any(bits and p.kind == "selector" for p, bits in found):
        # The selector stands still: there is one page only, which nobody can tell from none.
        found = [(replace(p, page=None), bits) for p, bits in found]
    return [(p, bits) for p, bits in found if bits]


def right_field(
    vehicle: Vehicle, key: int, field: BitField, carriers: list[tuple[int, Placed]]
) -> tuple[int, Placed] | None:
    """The carrier a found field is, if it is one."""
    column = vehicle.sent[key].column
    for at, placed in carriers:
        if at != key:
            continue
        bits = moving_bits(vehicle, key, placed)
        rows = column.payloads
        selector = vehicle.sent[key].layout.selector
        if placed.page is not None and selector is not None:
            rows = rows[extract(selector.field, rows) == placed.page]
        every = np.unpackbits(rows, axis=1, bitorder="little")
        mine = {b for b in field.bits if b < every.shape[1] and every[:, b].min() != every[:, b].max()}
        if overlap(mine, bits) >= OVERLAP:
            return at, placed
    return None


def structure_scores(
    vehicle: Vehicle, structures: dict[int, Structure]
) -> np.ndarray[tuple[int], np.dtype[np.float64]]:
    """Boundaries right, found, true; whole fields right, true; kinds right, asked."""
    score = np.zeros(7)
    for key, structure in structures.items():
        for page in {p.page for p, _ in truth_of(vehicle, key)}:
            truth = [(p, bits) for p, bits in truth_of(vehicle, key) if p.page == page]
            mine = [(p, set(p.moving)) for p in structure.pieces if p.page == page and p.moving]
            if page is None:
                mine = [(p, set(p.moving)) for p in structure.pieces if p.moving and p.page is None]
            moving = sorted(set().union(*(bits for _, bits in truth)))
            edges = _boundaries([bits for _, bits in truth], moving)
            got = _boundaries([bits for _, bits in mine], moving)
            score[0] += len(edges & got)
            score[1] += len(got)
            score[2] += len(edges)
            for placed, bits in truth:
                score[4] += 1
                score[3] += any(found == bits for _, found in mine)
                best = max(mine, key=lambda pair: overlap(pair[1], bits), default=None)
                score[6] += 1
                score[5] += best is not None and overlap(best[1], bits) >= OVERLAP and best[0].kind == placed.kind
    return score


def _boundaries(fields: list[set[int]], moving: list[int]) -> set[tuple[int, int]]:
    """Neighbouring moving bits that belong to different fields."""
    owner = {bit: i for i, bits in enumerate(fields) for bit in bits}
    return {(a, b) for a, b in zip(moving, moving[1:], strict=False) if owner.get(a, -1) != owner.get(b, -2)}
