"""Manchester code: bits by the edge in their middle; between sync and stop where a line has these, as the auxiliary
channel of display links, else from the first edge of a burst to its last.

Source: IEEE 802.3-2018, 7.3.1.1 (an edge up is a 1); the auxiliary channel at 1 Mbit/s has ten bits of 0 or more ahead,
two bit times high and two low as sync, the same as stop, bytes with their highest bit first.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numba import njit

from keel.errors import InputError
from keel.lines.code import Asked, Code, Field, Guess, How
from keel.lines.evidence import Evidence, certainty, different_frames
from keel.lines.framing import frames_of
from keel.lines.pulses import BitTime, explained, glitch_free, nearest_rate, window
from keel.lines.timing import Pulses, inside, pulses
from keel.media.manchester import BURST
from keel.model.bus import Bus
from keel.model.faults import Fault
from keel.model.frames import FrameBatch
from keel.model.waveform import Logic

USUAL = (1_000_000, 10_000_000, 500_000, 250_000, 125_000, 100_000, 50_000, 20_000, 10_000, 4_000, 2_000, 1_000)
GLITCH, PAUSE_HALVES = 0.3, 6.5
SYNC_LEAST, SYNC_MOST = 3.4, 5.6
"""In half bits: a stay that is longer ends a burst; two after another of such a length are a sync."""
FEWEST_PULSES, MOSTLY, A_PART = 40, 0.97, 0.05
"""A line is in this code where nearly all pulses are half a bit or a whole one, and some are either."""
LEAST_BITS = 8
CONVENTIONS = ("ieee", "inverse")


@njit(cache=True, nogil=True)
def _level(edges: Any, first: Any, at: Any, j: Any) -> Any:
    """The level at a time, and the edge before it, looked for from edge ``j`` on."""
    while j + 1 < len(edges) and edges[j + 1] <= at:
        j += 1
    return (first ^ (j + 1)) & 1, j


@njit(cache=True, nogil=True)
def read_bursts(edges: Any, first: Any, half: Any, inverse: Any, out: Any, bits: Any) -> Any:
    """Read the bursts of a line.

    Args:
        edges, first: The line.
        half: Half a bit, in ns.
        inverse: Whether an edge down is a 1, where no sync tells.
        out: Filled with begin, end, first bit, behind the last bit, whether there is a sync, when the bits begin;
            shape (n, 6).
        bits: Filled with bits.

    Returns:
        How many bursts, and how many bits.
    """
    n = used = 0
    count = len(edges)
    i = 0
    while i < count:
        last = i
        while last + 1 < count and edges[last + 1] - edges[last] <= PAUSE_HALVES * half:
            last += 1
        # Two stays that no bit has.
        sync = -1
        for m in range(i, last - 1):
            one, two = (edges[m + 1] - edges[m]) / half, (edges[m + 2] - edges[m + 1]) / half
            if SYNC_LEAST <= one <= SYNC_MOST and SYNC_LEAST <= two <= SYNC_MOST:
                sync = m
                break
        up = 0 if inverse else 1
        if sync >= 0:
            begin = np.float64(edges[sync + 1]) + 4 * half
            # The bits ahead of it are 0: which edge that is, they tell.
            before, _ = _level(edges, first, edges[sync + 1] - 4.5 * half, i - 1)
            up = 1 - before
            j = sync + 1
        else:
            begin = np.float64(edges[i])
            wrong = np.zeros(2)
            for phase in range(2):
                j = i - 1
                for k in range(64):
                    a, j = _level(edges, first, begin + (2 * k + 0.5 - phase) * half, j)
                    b, j = _level(edges, first, begin + (2 * k + 1.5 - phase) * half, j)
                    if begin + (2 * k + 2) * half > edges[last]:
                        break
                    wrong[phase] += a == b
            begin -= half if wrong[1] < wrong[0] else 0.0
            j = i - 1
        out[n, 2], out[n, 5] = used, np.int64(np.rint(begin))
        at = begin
        while at + half < edges[last] + 1.5 * half:
            a, j = _level(edges, first, at + 0.5 * half, j)
            b, k = _level(edges, first, at + 1.5 * half, j)
            if a == b:
                break
            bits[used] = b if up else 1 - b
            used += 1
            # The edge in the middle sets the clock.
            middle = np.float64(edges[k])
            at = middle + half if abs(middle - at - half) < 0.6 * half else at + 2 * half
            j = k
        out[n, 0], out[n, 3], out[n, 4] = edges[i], used, sync >= 0
        stop = at + (8 * half if sync >= 0 else 0.0)
        out[n, 1] = max(np.int64(np.rint(stop)), edges[i] + 1)
        n += 1
        i = last + 1
    return n, used


def read(logic: Logic, unit: BitTime | None, asked: Asked) -> list[Guess]:
    """A line read in Manchester code."""
    if len(logic.edges) < FEWEST_PULSES or (unit is None and asked.rate is None):
        return []
    convention = asked.settings.get("mode", CONVENTIONS[0]).lower()
    if convention not in CONVENTIONS:
        raise InputError("--set", f"mode={convention}", " or ".join(CONVENTIONS))
    half = 5e8 / asked.rate if asked.rate is not None else unit.ns if unit is not None else 0.0
    inverted = bool(asked.inverted)
    line = glitch_free(logic.inverted if inverted else logic, GLITCH * half)
    if asked.rate is None and not _is_one(line, half):
        return []
    table, bits = _table(line, half, convention == "inverse")
    kept = table[:, 3] - table[:, 2] >= LEAST_BITS
    table = table[kept]
    if not len(table):
        return []
    has_sync = bool(2 * table[:, 4].sum() > len(table))
    frames = _frames(table, bits, has_sync)
    good = frames.faults == 0
    assert frames.duration is not None
    share = explained(line, frames.time[good], (frames.time + frames.duration)[good], PAUSE_HALVES * half)
    rate, said = _rate(line, table, half)
    called = asked.rate or nearest_rate(rate, USUAL) or rate
    settings = {"sync": "yes" if has_sync else "no", "mode": convention}
    bus = Bus("", max(round(called), 1), medium="manchester", stamp="start", assumed=False)
    faulty = int((~good).sum())
    check = "with sync and stop" if has_sync else ""
    return [
        Guess("manchester", rate, None, inverted, settings, frames, bus, share, _evidence(frames, good, has_sync),
              check, faulty, said, {"half": half})
    ]  # fmt: skip


TWO_CLOCKS = 0.012
"""Bursts whose bits differ by a larger share come from different clocks."""


def _rate(line: Logic, table: Any, half: float) -> tuple[float, tuple[str, ...]]:
    """The rate of most bursts, and what is to be said of others: whoever talks has a clock of his own."""
    widths = np.diff(line.edges)
    halves = np.rint(widths / half)
    used = (halves >= 1) & (halves <= SYNC_MOST)
    places = np.searchsorted(line.edges, table[:, 0])
    stops = np.minimum(np.searchsorted(line.edges, table[:, 1]), len(widths))
    took = np.concatenate([[0], np.cumsum(np.where(used, widths, 0))])
    count = np.concatenate([[0], np.cumsum(np.where(used, halves, 0))])
    counts = np.maximum(count[stops] - count[places], 1)
    rates = 5e8 * counts / np.maximum(took[stops] - took[places], 1)
    order = np.argsort(rates)
    # The burst in the middle, by how long each is: a mean of two clocks would be the rate of none.
    middle = order[int(np.searchsorted(np.cumsum(counts[order]), counts.sum() / 2))]
    rate = float(rates[middle])
    others = rates[np.abs(rates / rate - 1) > TWO_CLOCKS]
    if len(others) < max(2, A_PART * len(rates)):
        return rate, ()
    other = float(np.median(others))
    return rate, (f"two clocks: {rate:,.0f} and about {other:,.0f} bit/s",)


def _evidence(frames: FrameBatch, good: Any, has_sync: bool) -> Evidence:
    """What speaks for bursts: an edge in the middle of each bit, and the sync ahead."""
    certain = certainty(1 - float(good.mean()))
    count = different_frames(frames.take(np.flatnonzero(good)))
    bits = 8 * float(frames.lengths[good].mean()) if good.any() else 0.0
    # What is the same in all bursts is foretold once.
    return Evidence(count * (bits + (A_SYNC if has_sync else 0.0)) * certain / 2, 4.0)


A_SYNC = 8.0
"""Bits that a sync foretells: two stays that no bit has, one after another."""


def _is_one(line: Logic, half: float) -> bool:
    """Whether its pulses are those of the code."""
    widths = np.diff(line.edges) / half
    widths = widths[widths < PAUSE_HALVES]
    if len(widths) < FEWEST_PULSES:
        return False
    shares = [float((np.abs(widths - size) < 0.35).mean()) for size in (1, 2, 4, 5)]
    return sum(shares) > MOSTLY and min(shares[:2]) > A_PART and sum(shares[2:]) < A_PART


def _table(line: Logic, half: float, inverse: bool) -> tuple[Any, Any]:
    tables, parts, used = [], [], 0
    for part in line.stretches():
        edges = np.ascontiguousarray(part.edges)
        out, bits = np.zeros((len(edges) + 1, 6), np.int64), np.zeros(2 * len(edges) + 16, np.uint8)
        n, count = read_bursts(edges, part.first, half, inverse, out, bits)
        out[:n, 2:4] += used
        used += count
        tables.append(out[:n])
        parts.append(bits[:count])
    return np.concatenate(tables), np.concatenate(parts)


def _frames(table: Any, bits: Any, has_sync: bool) -> FrameBatch:
    counts = table[:, 3] - table[:, 2]
    # Of bursts without a sync all bits are kept, the last byte filled with 0.
    sizes = counts // 8 if has_sync else -(-counts // 8)
    offsets = np.concatenate([[0], np.cumsum(sizes)])
    which = np.repeat(np.arange(len(table)), sizes)
    place = (np.arange(offsets[-1]) - offsets[which]) * 8
    at = table[which, 2][:, None] + place[:, None] + np.arange(8)
    inside = at < table[which, 3][:, None]
    taken = np.where(inside, bits[np.minimum(at, max(len(bits) - 1, 0))], 0) if len(bits) else np.zeros((0, 8))
    data = np.packbits(taken.astype(np.uint8), axis=1)[:, 0] if len(taken) else np.zeros(0, np.uint8)
    faults = np.zeros(len(table), np.uint32)
    if has_sync:
        faults[counts % 8 != 0] |= int(Fault.LENGTH)
        faults[table[:, 4] == 0] = int(Fault.SYNC)
    return frames_of(table[:, 0].copy(), table[:, 1], BURST.number, 0, offsets, data, faults)


def explain(line: Logic, how: How, start: int, end: int) -> list[Field]:
    """What stands ahead, the sync, each byte, the stop; of a burst without a sync its bits."""
    half = how.numbers["half"]
    part = glitch_free(window(line, start - 1, end + round(4 * half)), GLITCH * half)
    if not len(part.edges):
        return []
    table, bits = _table(part, half, how.settings.get("mode") == "inverse")
    begin, stop, low, high, has_sync, first = table[0].tolist()
    text = "".join(map(str, bits[low:high].tolist()))
    if not has_sync:
        return [Field("bits", begin, stop, None, text)]
    fields = [Field("ahead", begin, round(first - 8 * half)), Field("sync", round(first - 8 * half), first)]
    for number in range(len(text) // 8):
        value = int(text[8 * number : 8 * number + 8], 2)
        a, b = (round(first + (number + k) * 16 * half) for k in (0, 1))
        fields.append(Field("byte", a, b, value, f"{value:02X}", None, bytes([value])))
    if len(text) % 8:
        a = round(first + len(text) // 8 * 16 * half)
        fields.append(Field("bits", a, round(stop - 8 * half), None, text[len(text) // 8 * 8 :], Fault.LENGTH.word))
    return [*fields, Field("stop", round(stop - 8 * half), stop)]


def time(line: Logic, how: How, fields: Sequence[Field]) -> Pulses:
    """Edges against the one before: half a bit lies between them, or two, or four of a sync."""
    edges = inside(line, fields[0].start, fields[-1].end)
    return pulses(edges, edges, how.numbers["half"], 0.5, 0.5)


MANCHESTER = Code("manchester", "Manchester", read, explain, True, {"mode": ", ".join(CONVENTIONS)}, time=time)
