"""The fast channels of a SENT sensor: what six nibbles of data say together.

Source: SAE J2716 (2016), annex A (frame formats H.1 to H.4).
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from keel.lines.code import Field

NIBBLES = 6
FAST_CHANNELS = {"12+12": (3, 0), "16+8": (4, 0), "14+10": (4, 1), "secure": (3, 0)}
"""Ways to read six nibbles: of how many the first channel is, and how many of these the second one shares."""


def combined(nibbles: Sequence[Any], how: str) -> tuple[Any, Any]:
    """Both channels; the second one comes with its lowest nibble first. Of ``secure`` the second is a counter.

    Args:
        nibbles: Six nibbles in the order of sending: numbers, or arrays of shape (n,).
        how: One of `FAST_CHANNELS`.
    """
    a, b, c, d, e, f = nibbles
    if how == "12+12":
        return a << 8 | b << 4 | c, f << 8 | e << 4 | d
    if how == "16+8":
        return a << 12 | b << 8 | c << 4 | d, f << 4 | e
    if how == "14+10":
        return a << 10 | b << 6 | c << 2 | d >> 2, f << 6 | e << 2 | d & 3
    return a << 8 | b << 4 | c, d << 4 | e


def channels_of(data: Any, how: str) -> Any:
    """Both channels of messages; shape (n, 2).

    Args:
        data: Six nibbles each, the first one highest, shape (n,).
        how: One of `FAST_CHANNELS`.
    """
    nibbles = [data >> 4 * (NIBBLES - 1 - place) & 0xF for place in range(NIBBLES)]
    return np.column_stack(combined(nibbles, how))


def fields_of(nibbles: Sequence[Field], how: str) -> list[Field]:
    """Both channels of a message as fields, where a person said how they lie."""
    if how not in FAST_CHANNELS or len(nibbles) != NIBBLES:
        return []
    values = [int(nibble.value or 0) for nibble in nibbles]
    first, second = combined(values, how)
    split, overlaps = FAST_CHANNELS[how]
    is_secure = how == "secure"
    begin, end = nibbles[split - overlaps].start, nibbles[4 if is_secure else 5].end
    found = [
        Field("channel_1", nibbles[0].start, nibbles[split - 1].end, first, str(first)),
        Field("counter" if is_secure else "channel_2", begin, end, second, str(second)),
    ]
    if is_secure:
        last = values[5]
        text = f"{last:X}" if last == values[0] ^ 0xF else f"{last:X}, not nibble_1 inverted"
        found.append(Field("inverted", nibbles[5].start, nibbles[5].end, last, text))
    return found
