"""One fault in another drive of the same vehicle."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from benchmarks.vehicles.layout import Placed
from benchmarks.vehicles.traffic import guard
from benchmarks.vehicles.vehicle import Vehicle, moving_bits
from keel.hunt.columns import Column
from keel.model.fields import BitField, extract, insert
from keel.model.units import NS_PER_S

KINDS = (
    "stuck",
    "out_of_range",
    "not_available",
    "missing",
    "cycle_changed",
    "counter_skips",
    "checksum_wrong",
    "noisy",
    "dropout",
    "new_identifier",
)


@dataclass(frozen=True, eq=False)
class Fault:
    """What was broken, and the traffic it leaves."""

    kind: str
    key: int
    field: BitField | None
    columns: dict[int, Column]


def break_it(rng: np.random.Generator, good: Vehicle, bad: Vehicle, kind: str) -> Fault | None:
    """A fault of a kind, somewhere it can be seen; None if this vehicle has no place for it."""
    columns = dict(bad.columns)
    keys = [k for k, c in columns.items() if len(c.times) >= 40]
    rng.shuffle(keys)
    for key in keys:
        layout, column = bad.sent[key].layout, columns[key]
        rows = column.payloads.copy()
        times = column.times
        begin, end = _stretch(rng, times)
        inside = (times >= begin) & (times < end)
        field: BitField | None = None
        if kind in ("stuck", "out_of_range", "not_available", "noisy"):
            placed = _a_field(rng, good, key, kind)
            if placed is None:
                continue
            field = placed.field
            if not _bend(rng, kind, placed, rows, inside, good.columns[key].payloads):
                continue
            guard(layout, rows)
            columns[key] = Column(key, times, rows)
        elif kind == "missing":
            if layout.event and len(times) < 100:
                continue
            del columns[key]
        elif kind == "new_identifier":
            new = key ^ 0x3
            if new in columns:
                continue
            columns[new] = Column(new, times + 1_000_000, rng.permutation(rows))
            key = new
        elif kind == "cycle_changed":
            if layout.event:
                continue
            factor = float(rng.choice([1.3, 1.5, 2.0, 3.0]))
            kept = np.unique(np.rint(np.arange(0, len(times), factor)).astype(int).clip(0, len(times) - 1))
            grid = times[0] + np.rint(np.arange(len(kept)) * layout.cycle_s * factor * NS_PER_S).astype(np.int64)
            grid += rng.normal(0, 0.01 * layout.cycle_s * NS_PER_S, len(kept)).astype(np.int64)
            out = rows[kept]
            counter = layout.of_kind("counter")
            if counter is not None:
                insert(counter.field, out, np.arange(len(out)) & (1 << counter.field.length) - 1)
                guard(layout, out)
            columns[key] = Column(key, np.sort(grid), out)
        elif kind == "dropout":
            if layout.event:
                continue
            cut = np.zeros(len(times), bool)
            for _ in range(int(rng.integers(1, 4))):
                at = int(rng.integers(5, len(times) - 5))
                length = max(int(rng.uniform(0.8, 4.0) / layout.cycle_s), 6)
                cut[at : at + length] = True
            columns[key] = Column(key, times[~cut], rows[~cut])
        elif kind == "counter_skips":
            counter = layout.of_kind("counter")
            if counter is None or counter.field.length < 2:
                continue
            count = extract(counter.field, rows)
            for at in rng.choice(len(rows) - 2, int(rng.integers(2, 15)), replace=False) + 1:
                count[at:] += int(rng.integers(1, max((1 << counter.field.length) - 1, 2)))
            insert(counter.field, rows, count & (1 << counter.field.length) - 1)
            guard(layout, rows)
            columns[key] = Column(key, times, rows)
        elif kind == "checksum_wrong":
            check = layout.of_kind("checksum")
            if check is None:
                continue
            wrong = rng.choice(len(rows), int(rng.integers(2, 15)), replace=False)
            rows[wrong, check.field.start // 8] ^= np.uint8(1 << check.field.start % 8)
            columns[key] = Column(key, times, rows)
        return Fault(kind, key, field, columns)
    return None


def _stretch(rng: np.random.Generator, times: np.ndarray[tuple[int], np.dtype[np.int64]]) -> tuple[int, int]:
    first, last = int(times[0]), int(times[-1])
    if rng.random() < 0.3:
        return first, last + 1
    begin = first + int((last - first) * rng.uniform(0.1, 0.6))
    return begin, begin + int((last - first) * rng.uniform(0.2, 0.4))


def _a_field(rng: np.random.Generator, good: Vehicle, key: int, kind: str) -> Placed | None:
    layout = good.sent[key].layout
    found = []
    for placed in layout.placed:
        if placed.kind != "value" or placed.page is not None or placed.field.length < 6:
            continue
        bits = moving_bits(good, key, placed)
        if len(bits) >= 5:
            found.append(placed)
    return found[int(rng.integers(len(found)))] if found else None


def _bend(
    rng: np.random.Generator,
    kind: str,
    placed: Placed,
    rows: np.ndarray[tuple[int, int], np.dtype[np.uint8]],
    inside: np.ndarray[tuple[int], np.dtype[np.bool_]],
    usual: np.ndarray[tuple[int, int], np.dtype[np.uint8]],
) -> bool:
    values = extract(placed.field, rows)
    bits = placed.field.length
    low, high = (-(1 << bits - 1), (1 << bits - 1) - 1) if placed.field.signed else (0, (1 << bits) - 1)
    at = np.flatnonzero(inside)
    if len(at) < 10:
        return False
    if kind == "stuck":
        if len(np.unique(values[inside])) < 10:
            return False
        values[inside] = values[at[0]]
    elif kind == "not_available":
        share = float(rng.choice([1.0, 0.1]))
        chosen = at[rng.random(len(at)) < share]
        values[chosen] = -1 if placed.field.signed else high
        if placed.field.signed:
            return False
    elif kind == "out_of_range":
        known = np.concatenate([values, extract(placed.field, usual)])
        least, most = int(known.min()), int(known.max())
        reach = most - least + 1
        new: int = most + 2 * reach if rng.random() < 0.5 else least - 2 * reach
        if not low < new < high - 1:
            new = high - 2 if high - 2 > most + reach // 2 else low + 1
            if not (new > most + reach // 2 or new < least - reach // 2):
                return False
        values[inside] = new + (values[inside] - values[at[0]]) // 50
        np.clip(values, low, high, out=values)
    else:
        reach = max(int(np.percentile(values, 95) - np.percentile(values, 5)), 20)
        values[inside] += np.rint(rng.normal(0, 0.12 * reach, len(at))).astype(np.int64)
        np.clip(values, low, high, out=values)
    insert(placed.field, rows, values)
    return True
