"""Selectors: a field that says which page the rest of the payload is.

From one frame to the next a paged payload changes all over; from one frame to the next *of the same page* it
changes as little as any other. That difference gives the selector away, and tells it from a counter.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from keel.model.fields import BitField, extract
from keel.model.frames import Bytes, Mask

LOOKED_AT = 6000
LONGEST = 8
FEWEST_FRAMES = 6
"""Frames of each page that are needed."""
SURE_GAIN = 0.6
ALIKE = 0.7
AS_GOOD = 0.95
MOST_PAGES = 64
GAIN = 0.3
"""Share of all bit flips that must vanish when pages are looked at one by one."""
LEAST_GAIN = 40

Ints = npt.NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Selector:
    """A selector: its field, its pages, and which bits belong to a page (the others are there in all of them)."""

    field: BitField
    pages: tuple[int, ...]
    paged: Mask


def find_selector(payloads: Bytes, spoken_for: Mask, counters: list[BitField]) -> Selector | None:
    """The selector of an identifier, if its payloads have pages.

    Args:
        payloads: Frames one after another, shape (n, bytes).
        spoken_for: Bits that cannot be paged or select: checksums; shape (8 × bytes,).
        counters: What looks like counters; a selector may look like one, but does not share bits with one.
    """
    rows = payloads[:LOOKED_AT]
    if len(rows) < 4 * FEWEST_FRAMES or rows.shape[1] < 2:
        return None
    bits = np.unpackbits(rows, axis=1, bitorder="little")
    flips = (bits[1:] != bits[:-1]).sum(axis=0)
    found: list[tuple[float, bool, Selector]] = []
    moving = (flips > 0) & ~spoken_for
    for start in np.flatnonzero(moving).tolist():
        for length in range(1, min(LONGEST, len(flips) - start) + 1):
            top = start + length - 1
            if top // 8 != start // 8:
                break
            if not moving[top] or (start % 8 and moving[start - 1] and flips[start - 1] > flips[start]):
                continue
            field = BitField(start, length)
            if any(set(field.bits) & set(c.bits) and field.bits != c.bits for c in counters):
                continue
            one = _judge(field, rows, bits, flips, spoken_for)
            if one is not None:
                # A counter's own bits are no gain: it counts, whatever else it does. Nor are those of a number.
                plain = one[1] and not any(field.bits == c.bits for c in counters)
                own = int(flips[list(field.bits)].sum()) if plain else 0
                found.append((one[0] + own, *one[1:]))
    if not found:
        return None
    most = max((gain for gain, in_turn, _ in found if in_turn), default=0.0)
    turning = [selector for gain, in_turn, selector in found if in_turn and gain >= AS_GOOD * most]
    if not turning:
        return _widened(max(found, key=lambda one: one[0])[2], rows, flips)
    # More pages than need be are a counter taken with the selector; of as many the one near the start, in full length.
    best = max(turning, key=lambda s: (-len(s.pages), -(s.field.start // 8), s.field.length))
    return _widened(best, rows, flips)


def _widened(found: Selector, rows: Bytes, flips: Ints) -> Selector:
    """The selector with the bits of its byte that never move: the pages are then called as their sender calls them."""
    low, high = found.field.start, found.field.start + found.field.length
    while low % 8 and not flips[low - 1]:
        low -= 1
    while high % 8 and not flips[high] and not rows[0, high // 8] >> high % 8 & 1:
        high += 1
    field = BitField(low, high - low)
    pages = np.unique(extract(field, rows))
    return Selector(field, tuple(pages.tolist()), found.paged)


def _judge(
    field: BitField, rows: Bytes, bits: Bytes, flips: Ints, spoken_for: Mask
) -> tuple[float, bool, Selector] | None:
    values = extract(field, rows)
    turns = float((values[1:] != values[:-1]).mean())
    pages, counts = np.unique(values, return_counts=True)
    if turns < 0.4 or not 2 <= len(pages) <= MOST_PAGES or counts.min() < FEWEST_FRAMES:
        return None
    order = np.argsort(values, kind="stable")
    same = values[order][1:] == values[order][:-1]
    within = (bits[order][1:] != bits[order][:-1])[same].sum(axis=0) * (len(rows) - 1) / max(int(same.sum()), 1)
    others = ~spoken_for
    others[list(field.bits)] = False
    before, after = flips[others].astype(np.float64), within[others]
    gain = float((before - after).sum())
    if gain < max(GAIN * before.sum(), LEAST_GAIN):
        return None
    # What is there in all pages moves less between two frames than between two of the same page, further apart.
    means = np.array([bits[values == page].mean(axis=0) for page in pages])
    moves = (means > 0) & (means < 1)
    differs = means.max(axis=0) - means.min(axis=0) > 0.5
    paged = (flips > ALIKE * within) | differs | (moves.any(axis=0) & ~moves.all(axis=0))
    paged[~others] = False
    in_turn = _in_turn(values, pages)
    # The low bits of a number group its other bits too, but they neither come in turn nor do their pages differ.
    unlike = np.count_nonzero(differs & others)
    if not in_turn and (gain < SURE_GAIN * before.sum() or unlike < 4 or counts.min() < 3 * FEWEST_FRAMES):
        return None
    return gain, in_turn, Selector(field, tuple(pages.tolist()), paged)


def _in_turn(values: Ints, pages: Ints) -> bool:
    """Whether each page has its own next one."""
    places = np.searchsorted(pages, values)
    follows = np.zeros((len(pages), len(pages)), np.int64)
    np.add.at(follows, (places[:-1], places[1:]), 1)
    return bool(follows.max(axis=1).sum() >= 0.95 * (len(values) - 1))
