"""One difference, and what every kind of difference is made with."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from math import exp

from keel.compare.sides import Both
from keel.measure.census import Tally
from keel.model.fields import BitField
from keel.signals.dictionary import Message, joined

KINDS = (
    "constant", "only_in_a", "only_in_b", "cycle", "gap", "load", "length", "stopped_moving", "started_moving",
    "range", "state", "not_available", "faults", "check",
)  # fmt: skip
"""Kinds of difference."""
EXPECTED_NATS = 6.0


@dataclass(frozen=True)
class Difference:
    """One difference.

    Attributes:
        key: The identifier, as the first side knows it; None if it concerns a bus or all.
        bus: The bus it is on; empty for all.
        kind: One of `KINDS`.
        a, b: What each side says, in words.
        score: How much it says, 0 to 1.
        why: A sentence.
        signal: Which signal, if one.
        field: Which bits, if some.
        time_a, time_b: Where to look on each side, in ns; None if there is no such place.
    """

    key: int | None
    bus: str
    kind: str
    a: str
    b: str
    score: float
    why: str
    signal: str = ""
    field: BitField | None = None
    time_a: int | None = None
    time_b: int | None = None


def surprise(nats: float) -> float:
    """How much a log likelihood ratio says, 0 to 1."""
    return round(1 - exp(-max(nats, 0.0) / EXPECTED_NATS), 4)


def message_of(both: Both, key: int) -> Message | None:
    """What both sides' dictionaries know of an identifier, named as the first side does."""
    there = both.buses.to_b(key)
    mine = both.a.snapshot.book.message(key)
    theirs = both.b.snapshot.book.message(there) if there is not None else None
    if mine is None or theirs is None:
        return mine or theirs
    return joined(mine, theirs)


def common(both: Both) -> Iterator[tuple[int, int, Tally, Tally]]:
    """The identifiers that both sides have: the key of each side, and what it sends there."""
    for key, tally in both.a.census.items():
        there = both.buses.to_b(key)
        if there is not None and there in both.b.census:
            yield key, there, tally, both.b.census[there]


def signal_over(message: Message | None, field: BitField) -> str:
    """The name of the signal that has some of a field's bits; empty if none has."""
    bits = set(field.bits)
    for signal in message.signals if message else ():
        if bits & set(signal.field.bits):
            return signal.name
    return ""
