"""Where is it sent? An exact value or text, known to be sent at about a time, in the usual encodings."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from keel.hunt.candidates import MOST_CANDIDATES, SURELY_NOTHING, Candidate, Findings, chance_of_nothing, in_families
from keel.hunt.carriers import Carrier
from keel.hunt.columns import Column
from keel.hunt.scene import Traffic
from keel.hunt.structure import Piece
from keel.model.fields import BitField, Order, extract
from keel.model.units import NS_PER_S

BEFORE_S, AFTER_S = 1.2, 0.4
LEAST_NATS = 2.0
ENCODINGS: tuple[tuple[float, float, float], ...] = (
    (1.0, 0.0, 0.0),
    (0.1, 0.0, 0.7),
    (0.01, 0.0, 0.9),
    (0.5, 0.0, 1.2),
    (0.25, 0.0, 1.6),
    (0.125, 0.0, 1.6),
    (0.001, 0.0, 1.4),
    (0.05, 0.0, 1.8),
    (0.2, 0.0, 1.8),
    (2.0, 0.0, 1.8),
    (1 / 256, 0.0, 2.0),
    (1 / 128, 0.0, 2.2),
    (1 / 64, 0.0, 2.2),
    (1 / 16, 0.0, 2.2),
    (1.0, -40.0, 1.2),
    (1.0, -50.0, 1.8),
    (0.5, -40.0, 2.0),
    (0.1, -40.0, 2.0),
    (1.0, -273.0, 2.2),
    (0.03125, -273.0, 2.2),
    (0.4, 0.0, 1.6),
    (10.0, 0.0, 1.8),
)
"""Scale, offset, and what each costs, in nats."""


@dataclass(frozen=True)
class Known:
    """A value or text, and when it was sent: ns since 1970, or None for any time."""

    value: str
    at: int | None = None


def find_exact(traffic: Traffic, known: Known, cancelled: Callable[[], bool] = lambda: False) -> Findings:
    """Fields that hold a value or text then, and seldom otherwise."""
    found: list[tuple[Candidate, Carrier]] = []
    try:
        number: float | None = float(known.value)
    except ValueError:
        number = None
    if number is not None and not np.isfinite(number):
        # No message sends it as a number; as a text it may.
        number = None
    when = "" if known.at is None else " about then"
    for key, column in traffic.columns.items():
        if cancelled():
            break
        near = _near(column, known.at)
        if not near.any():
            continue
        found += _texts(key, column, known.value, near, when)
        if number is not None:
            found += _floats(key, column, number, near, when)
    if number is not None:
        for carrier in traffic.carriers:
            if cancelled():
                break
            one = _coded(carrier, number, known.at, when)
            if one is not None:
                found.append((one, carrier))
    found = [pair for pair in found if pair[0].nats >= LEAST_NATS]
    found.sort(key=lambda pair: -pair[0].nats)
    # So many places and codings were tried: one in a few thousand matches by chance.
    tried = max(len(traffic.carriers) * len(ENCODINGS), 1)
    best = found[0][0].nats if found else -1e9
    nothing = chance_of_nothing(best, 0.5 * float(np.log(tried)), 1 / 0.35)
    if nothing > SURELY_NOTHING:
        found = []
    count = len(traffic.columns)
    return Findings(
        f"“{known.value}”{' at a known time' if known.at is not None else ''}",
        nothing,
        tuple(in_families(found)[:MOST_CANDIDATES]),
        count,
        len(traffic.carriers),
        traffic.notes,
    )


def _near(column: Column, at: int | None) -> np.ndarray[tuple[int], np.dtype[np.bool_]]:
    if at is None:
        return np.ones(len(column.times), np.bool_)
    near = (column.times >= at - int(BEFORE_S * NS_PER_S)) & (column.times <= at + int(AFTER_S * NS_PER_S))
    if not near.any() and len(column.times):
        # What is sent seldom still holds.
        last = int(np.searchsorted(column.times, at, side="right")) - 1
        if last >= 0:
            near[last] = True
    return np.asarray(near)


def _rarity(
    hits: np.ndarray[tuple[int], np.dtype[np.bool_]], near: np.ndarray[tuple[int], np.dtype[np.bool_]]
) -> float:
    """How much a match then says: the rarer it is otherwise, the more."""
    if not (hits & near).any():
        return 0.0
    if near.all():
        return 3.0
    share = (np.count_nonzero(hits & ~near) + 0.5) / (np.count_nonzero(~near) + 1)
    return float(-np.log(share))


def _coded(carrier: Carrier, number: float, at: int | None, when: str) -> Candidate | None:
    near = _near(Column(carrier.key, carrier.times, np.zeros((0, 0), np.uint8)), at)
    best: Candidate | None = None
    moving = len(carrier.piece.moving)
    for scale, offset, cost in ENCODINGS:
        raw = (number - offset) / scale
        if abs(raw - round(raw)) > 1e-6 or abs(raw) >= 2**62:
            continue
        hits = carrier.raw == round(raw)
        rare = _rarity(hits, near)
        nats = rare - cost - (1.5 if moving < 3 else 0.0)
        if rare and (best is None or nats > best.nats):
            share = float(hits.mean())
            why = f"is {round(raw)}{when}, and in {share:.1%} of all frames"
            best = Candidate(carrier.key, carrier.field, nats, why, carrier.page, scale, offset)
    return best


def _floats(
    key: int, column: Column, number: float, near: np.ndarray[tuple[int], np.dtype[np.bool_]], when: str
) -> Iterator[tuple[Candidate, Carrier]]:
    """IEEE 754 single and double, both byte orders, at every byte."""
    orders: tuple[tuple[Order, str], ...] = (("little", "<"), ("big", ">"))
    for size in (4, 8):
        for first in range(column.payloads.shape[1] - size + 1):
            part = np.ascontiguousarray(column.payloads[:, first : first + size])
            for order, sign in orders:
                values = part.view(f"{sign}f{size}")[:, 0]
                with np.errstate(invalid="ignore", over="ignore"):
                    hits = np.isfinite(values) & (np.abs(values - number) <= 1e-6 * max(abs(number), 1e-3))
                rare = _rarity(hits, near)
                if rare and number != 0:
                    start = first * 8 if order == "little" else first * 8 + 7
                    field = BitField(start, size * 8, order)
                    why = f"is {number:g}{when} as a floating-point number"
                    carrier = Carrier(key, Piece(field, "value"), column.times, extract(field, column.payloads))
                    yield Candidate(key, field, rare + 4.0, why), carrier


def _texts(
    key: int, column: Column, text: str, near: np.ndarray[tuple[int], np.dtype[np.bool_]], when: str
) -> Iterator[tuple[Candidate, Carrier]]:
    """ASCII, and binary-coded decimal for digits."""
    for name, wanted in _codings(text):
        size = len(wanted)
        for first in range(column.payloads.shape[1] - size + 1):
            hits = (column.payloads[:, first : first + size] == np.frombuffer(wanted, np.uint8)).all(axis=1)
            rare = _rarity(hits, near)
            if rare and size <= 8:
                field = BitField(first * 8, size * 8)
                carrier = Carrier(key, Piece(field, "text"), column.times, extract(field, column.payloads))
                yield Candidate(key, field, rare + 1.5 * size - 2, f"says “{text}”{when} as {name}"), carrier


def _codings(text: str) -> Iterator[tuple[str, bytes]]:
    if text.isascii() and 1 < len(text) <= 8:
        yield "text", text.encode("ascii")
    digits = text.replace(".", "")
    if digits.isascii() and digits.isdigit() and len(digits) >= 4:
        even = digits if len(digits) % 2 == 0 else "0" + digits
        yield "binary-coded decimal", bytes.fromhex(even)
