"""A nominal cycle time as a person types it."""

from __future__ import annotations

import re


def nominal_ns(text: str) -> int | None:
    """Nanoseconds from a number of milliseconds: ``10``, ``10,5 ms``; 0 of nothing, None of what is no such time."""
    found = re.fullmatch(r"\s*(\d+(?:[.,]\d+)?)\s*(?:ms)?\s*", text)
    if not text:
        return 0
    return round(float(found[1].replace(",", ".")) * 1e6) if found else None
