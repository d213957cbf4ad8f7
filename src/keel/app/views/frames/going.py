"""Where a person means to go, when he types a place."""

from __future__ import annotations

import re

from keel.model.span import Span
from keel.model.units import NS_PER_S

DAY_NS = 86_400 * NS_PER_S


def goal_of(text: str, whole: Span, zero: int, is_dated: bool) -> tuple[str, int]:
    """What a person means by a place: ``("frame", number)`` or ``("time", ns)``.

    Raises:
        ValueError: it is neither.
    """
    from keel.ask.times import moment_ns

    text = text.strip().lstrip("#").replace("\u202f", "").replace(" ", "")
    if text.isdigit():
        return "frame", int(text)
    clock = re.fullmatch(r"(\d{1,2}):(\d\d)(?::(\d\d(?:\.\d+)?))?", text)
    if clock and is_dated:
        seconds = int(clock[1]) * 3600 + int(clock[2]) * 60 + float(clock[3] or 0)
        time = whole.start // DAY_NS * DAY_NS + round(seconds * NS_PER_S)
        # A recording that runs past midnight means the day after.
        return "time", time if time >= whole.start else time + DAY_NS
    return "time", zero + moment_ns(text)
