"""The frames of a drive: when each message is sent, and what it says."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from benchmarks.vehicles.layout import Layout, Placed
from benchmarks.vehicles.world import STEP_S, Rng, World
from keel.hunt.columns import Column
from keel.model.fields import BitField, extract, insert
from keel.model.frames import Bytes
from keel.model.identity import unpack_key
from keel.model.units import NS_PER_S

START = 1_750_000_000 * NS_PER_S


@dataclass(eq=False)
class Sent:
    """What one message said: the frames, and the truth about them."""

    layout: Layout
    column: Column


def send_all(rng: Rng, messages: list[Layout], world: World) -> dict[int, Sent]:
    """The frames of every message, by key."""
    return {m.key: Sent(m, send(rng, m, world)) for m in messages}


def send(rng: Rng, message: Layout, world: World) -> Column:
    """The frames of one message."""
    times = send_times(rng, message, world)
    return Column(message.key, (START + times * NS_PER_S).astype(np.int64), payloads(message, world, times))


def send_times(rng: Rng, message: Layout, world: World) -> np.ndarray[tuple[int], np.dtype[np.float64]]:
    """When it is sent, in seconds."""
    if message.event:
        raws = [raw_values(p, world, np.arange(int(world.seconds / STEP_S))) for p in message.placed if p.quantity]
        moments = [np.flatnonzero(np.diff(r)) * STEP_S + 0.004 for r in raws]
        found = np.unique(np.concatenate([*moments, np.arange(0.3, world.seconds, 2.0)]))
        keep, last = [], -1.0
        for t in found.tolist():
            if t - last >= 0.02:
                keep.append(t)
                last = t
        return np.array(keep) + rng.uniform(0, 0.002, len(keep))
    count = int(world.seconds / message.cycle_s)
    times = rng.uniform(0, message.cycle_s) + np.arange(count) * message.cycle_s
    times += rng.normal(0, message.jitter * message.cycle_s * 0.5, count)
    return np.sort(np.clip(times, 0, world.seconds - STEP_S))


def raw_values(
    placed: Placed, world: World, at: np.ndarray[tuple[int], np.dtype[np.int64]]
) -> np.ndarray[tuple[int], np.dtype[np.int64]]:
    """Raw values on the grid."""
    values = world.quantities[placed.quantity].values
    raw = np.rint((values[np.clip(at, 0, len(values) - 1)] - placed.offset) / placed.scale)
    bits = placed.field.length
    low, high = (-(1 << bits - 1), (1 << bits - 1) - 1) if placed.field.signed else (0, (1 << bits) - 1)
    return np.clip(raw, low, high).astype(np.int64)


def payloads(message: Layout, world: World, times: np.ndarray[tuple[int], np.dtype[np.float64]]) -> Bytes:
    """What is sent at these times."""
    n = len(times)
    out = np.full((n, message.bytes), 255 if message.fill else 0, np.uint8)
    at = (times / STEP_S).astype(np.int64)
    selector = message.selector
    pages = sorted({p.page for p in message.placed if p.page is not None})
    page = np.array(pages or [0])[np.arange(n) % max(len(pages), 1)]
    if selector is not None:
        insert(selector.field, out, page)
    for placed in message.placed:
        if placed.quantity:
            values = raw_values(placed, world, at)
        elif placed.kind == "counter":
            values = np.arange(n) + message.secret & (1 << placed.field.length) - 1
        elif placed.kind == "text":
            size = message.bytes
            lines = np.frombuffer(placed.text, np.uint8).reshape(-1, size)
            out[:] = lines[(times // 7).astype(int) % len(lines)]
            continue
        else:
            continue
        rows = slice(None) if placed.page is None else np.flatnonzero(page == placed.page)
        part = out[rows]
        insert(placed.field, part, values[rows])
        out[rows] = part
    guard(message, out)
    return out


def guard(message: Layout, out: Bytes) -> None:
    """Write the checksum, in place."""
    placed = message.of_kind("checksum")
    if placed is None:
        return
    insert(placed.field, out, np.zeros(len(out), np.int64))
    counter = message.of_kind("counter")
    count = extract(counter.field, out) if counter else np.zeros(len(out), np.int64)
    insert(placed.field, out, checksum(message, placed.field, placed.algorithm, out, count))


def checksum(
    message: Layout, where: BitField, algorithm: str, out: Bytes, count: np.ndarray[tuple[int], np.dtype[np.int64]]
) -> np.ndarray[tuple[int], np.dtype[np.int64]]:
    """The checksum of each payload, in which it is still 0."""
    return np.asarray(_checksum(message, where, algorithm, out, count), np.int64)


def _checksum(message: Layout, where: BitField, algorithm: str, out: Bytes, count: Any) -> Any:
    ident = unpack_key(message.key)[2]
    size, at = out.shape[1], where.start // 8
    data = out[:, [i for i in range(size) if i != at]] if where.length == 8 else out
    wide = data.astype(np.int64)
    if where.length == 4:
        nibbles = np.concatenate([wide & 15, wide >> 4], axis=1)
        return np.bitwise_xor.reduce(nibbles, axis=1) if algorithm == "xor" else nibbles.sum(axis=1) & 15
    if algorithm == "xor":
        return np.bitwise_xor.reduce(wide, axis=1)
    if algorithm == "xor_id":
        return np.bitwise_xor.reduce(wide, axis=1) ^ (ident & 255) ^ (ident >> 8 & 255)
    if algorithm == "sum":
        return wide.sum(axis=1) & 255
    if algorithm == "sum_inverted":
        return 255 - (wide.sum(axis=1) & 255)
    if algorithm == "sum_id":
        return (wide.sum(axis=1) + (ident & 255) + (ident >> 8 & 255) + size) & 255
    if algorithm == "crc8":
        return crc(wide, message.poly, 0, 0)
    if algorithm == "crc8_id":
        return crc(
            np.concatenate([np.full((len(wide), 1), ident & 255), wide], axis=1), message.poly, 0xFF, message.secret
        )
    if algorithm == "crc8_j1850":
        return crc(wide, 0x1D, 0xFF, 0xFF)
    if algorithm == "e2e_1":
        ids = np.tile([message.secret, message.secret ^ 0x5A], (len(wide), 1))
        return crc(np.concatenate([ids, wide], axis=1), 0x1D, 0, 0)
    secret = np.array(message.data_ids)[count & 15][:, None]
    return crc(np.concatenate([wide, secret], axis=1), 0x2F, 0xFF, 0xFF)


def crc(
    data: np.ndarray[tuple[int, int], np.dtype[np.int64]], poly: int, init: int, xor_out: int
) -> np.ndarray[tuple[int], np.dtype[np.int64]]:
    """CRC-8, most significant bit first, over the columns."""
    table = np.arange(256)
    for _ in range(8):
        table = np.where(table & 0x80, (table << 1 & 0xFF) ^ poly, table << 1)
    value = np.full(len(data), init)
    for column in data.T:
        value = table[value ^ column]
    return value ^ xor_out
