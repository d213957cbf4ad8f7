"""Bits that never move on either side and stand otherwise on each: the most certain difference there is."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from keel.compare.difference import Difference, common, message_of, signal_over, surprise
from keel.compare.sides import Both, Side
from keel.hunt.constants import field_words, runs_of, value_words
from keel.measure.census import Tally
from keel.media.every import key_words
from keel.model.frames import Mask


def constants(both: Both) -> Iterator[Difference]:
    """What is always so in this side and always otherwise in the other, in all frames without fault."""
    for key, there, one, other in common(both):
        size = min(len(one.payload), len(other.payload))
        if not size:
            continue
        steady = _steady(both.a, key, one, size) & _steady(both.b, there, other, size)
        mine, theirs = (np.frombuffer(tally.payload[:size], np.uint8) for tally in (one, other))
        differs = np.unpackbits(mine ^ theirs, bitorder="little").astype(np.bool_) & steady
        message = message_of(both, key)
        counts = [tally.good for tally in (one, other)]
        for field in runs_of(differs, steady):
            signal = signal_over(message, field)
            shown = [value_words(field, tally.payload) for tally in (one, other)]
            where = f"{signal} ({field_words(field)})" if signal else field_words(field)
            why = f"{where} of {key_words(key)} is always {shown[0]} in this and always {shown[1]} in the other"
            words = [f"{value} in all {count}" for value, count in zip(shown, counts, strict=True)]
            yield Difference(
                key, both.buses.name(key), "constant", words[0], words[1], surprise(min(counts)), why, signal, field,
                time_a=one.first, time_b=other.first,
            )  # fmt: skip


def _steady(side: Side, key: int, tally: Tally, size: int) -> Mask:
    """Which bits of the first bytes never moved."""
    if not tally.changes:
        return np.ones(8 * size, np.bool_)
    steady = np.zeros(8 * size, np.bool_)
    flips = side.flips.get(key)
    if flips is not None:
        known = min(8 * size, len(flips))
        steady[:known] = flips[:known] == 0
    return steady
