"""Evidence from files: spans, readings and series as lines of numbers.

Times are seconds from the recording's start, or seconds since 1970 where they are over a billion. Numbers are
separated by commas, semicolons or blanks; a first line of names is passed over, as are blank lines and what follows
``#``.
"""

from __future__ import annotations

import re
from decimal import Decimal, InvalidOperation
from pathlib import Path

import numpy as np

from keel.errors import InputError
from keel.hunt.measurements import Points
from keel.model.span import Span
from keel.model.units import NS_PER_S

SINCE_1970 = 1_000_000_000
"""Greater times are seconds since 1970."""
LATEST = 9_000_000_000
"""No time is as great: nanoseconds since 1970 would not fit."""


def read_spans(path: Path, start: int) -> list[Span]:
    """Spans from lines ``start,end``.

    Args:
        path: The file.
        start: Time zero, in ns since 1970.

    Raises:
        InputError: the file cannot be read, or a line is not two ascending numbers.
    """
    spans = []
    for where, (low, high) in _pairs(path, "start,end in seconds"):
        if high < low or high > LATEST:
            raise InputError(where, "the span ends before it begins, or never", "start,end")
        spans.append(Span(moment(low, start), moment(high, start)))
    return spans


def read_points(path: Path, start: int) -> Points:
    """Points from lines ``time,value``, in order of time.

    Raises:
        InputError: the file cannot be read, or a line is not two numbers.
    """
    times, values = [], []
    for _, (time, value) in _pairs(path, "time,value"):
        times.append(moment(time, start))
        values.append(float(value))
    found = Points(np.array(times, np.int64), np.array(values, np.float64))
    return found.thinned(len(times))


def moment(seconds: Decimal, start: int) -> int:
    """A time in a file as ns since 1970."""
    whole = int(seconds * NS_PER_S)
    return whole if seconds > SINCE_1970 else start + whole


def _pairs(path: Path, expected: str) -> list[tuple[str, tuple[Decimal, Decimal]]]:
    try:
        text = path.read_text(encoding="utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(str(path), f"cannot be read ({error})", f"lines of {expected}") from None
    found: list[tuple[str, tuple[Decimal, Decimal]]] = []
    first = True
    for number, line in enumerate(text.splitlines(), 1):
        line = line.split("#")[0].strip()
        if not line:
            continue
        where = f"{path} line {number}"
        try:
            one, other = (Decimal(cell.strip()) for cell in re.split(r"\s*[,;\t]\s*|\s+", line)[:2])
            if not (one.is_finite() and other.is_finite() and abs(one) < LATEST and abs(float(other)) < 1e30):
                raise InvalidOperation
            found.append((where, (one, other)))
        except (InvalidOperation, ValueError, OverflowError):
            if not (first and re.search(r"[A-Za-z]", line)):
                raise InputError(where, f"“{line}”", expected) from None
        first = False
    return found
