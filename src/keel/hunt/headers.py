"""Fields of headers over time: what frames say of themselves, as signal strength, may carry something, too."""

from __future__ import annotations

import numpy as np

from keel.hunt.carriers import Carrier
from keel.hunt.columns import Column
from keel.hunt.structure import Piece
from keel.media.every import medium_of_form
from keel.media.header import HeaderField
from keel.model.fields import BitField
from keel.model.identity import unpack_key
from keel.signals.dictionary import Role


def header_carriers(columns: dict[int, Column]) -> dict[int, dict[str, Carrier]]:
    """The numbers in headers that move, by identifier and name. Their bits count from the header's first."""
    found: dict[int, dict[str, Carrier]] = {}
    for key, column in columns.items():
        medium = medium_of_form(unpack_key(key)[1])
        if column.header is None or medium is None:
            continue
        carriers = (_carrier(key, column, one) for one in medium.fields if _is_a_number(one))
        if moving := {one.header: one for one in carriers if one is not None}:
            found[key] = moving
    return found


def _is_a_number(field: HeaderField) -> bool:
    return field.is_number and field.shown not in ("hex", "bytes")


def _carrier(key: int, column: Column, field: HeaderField) -> Carrier | None:
    """A header's field over time; None if it is not there, or never moves."""
    assert column.header is not None
    numbers, there = field.numbers(column.header)
    times, raw = column.times[there], numbers[there]
    if len(times) < 2:
        return None
    turned = int(np.bitwise_or.reduce(raw) ^ np.bitwise_and.reduce(raw))
    bits = BitField(field.start, field.bits, signed=field.signed)
    moving = tuple(bit for place, bit in enumerate(bits.bits) if turned >> place & 1)
    if not moving:
        return None
    kind: Role = "flag" if field.bits == 1 else "value"
    return Carrier(key, Piece(bits, kind, moving=moving, header=field.name), times, raw)
