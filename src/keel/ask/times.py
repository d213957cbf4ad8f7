"""Times as asks write them: a number and its unit, exact in nanoseconds."""

from __future__ import annotations

import re
from decimal import Decimal

UNITS_NS = {
    "ns": 1,
    "us": 1_000,
    "µs": 1_000,
    "ms": 1_000_000,
    "s": 1_000_000_000,
    "min": 60_000_000_000,
    "h": 3_600_000_000_000,
}
LONGEST_NS = 1 << 62
_WRITTEN = ("s", "ms", "us", "ns")


def duration_ns(text: str) -> int:
    """A time with its unit in nanoseconds.

    Raises:
        ValueError: it is none, or longer than any recording.
    """
    match = re.fullmatch(r"(\d+(?:\.\d*)?|\.\d+)([a-zµ]+)", text.strip().lower())
    if match is None or match[2] not in UNITS_NS:
        raise ValueError(f"{text!r} is not a time with a unit")
    number = Decimal(match[1])
    # Compared before it is multiplied: a number of a thousand digits is no time.
    if number > Decimal(LONGEST_NS) / UNITS_NS[match[2]]:
        raise ValueError(f"{text[:20]!r} is longer than any recording")
    return int(number * UNITS_NS[match[2]])


def moment_ns(text: str) -> int:
    """A moment, counted from zero, in nanoseconds: a time with its unit, behind a minus if it lies before.

    Raises:
        ValueError: it is none, or farther than any recording is long.
    """
    text = text.strip()
    return -duration_ns(text[1:]) if text.startswith("-") else duration_ns(text)


def time_text(ns: int) -> str:
    """The inverse of `duration_ns`, as short as it can be said exactly."""
    texts = (f"{Decimal(ns).scaleb(-9 + 3 * place).normalize():f}{unit}" for place, unit in enumerate(_WRITTEN))
    return min(texts, key=len)
