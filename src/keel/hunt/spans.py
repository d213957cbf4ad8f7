"""Marked spans from a file."""

from __future__ import annotations

from decimal import Decimal, InvalidOperation
from pathlib import Path

from keel.errors import InputError
from keel.model.span import Span
from keel.model.units import NS_PER_S


def read_spans(path: Path, start: int) -> list[Span]:
    """Spans from lines ``start,end`` in seconds; blank lines and those with ``#`` are passed over.

    Args:
        path: The file.
        start: Time zero, in ns since 1970.

    Raises:
        InputError: the file cannot be read, or a line is not two ascending numbers.
    """
    try:
        text = path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(str(path), f"cannot be read ({error})", "lines of start,end in seconds") from None
    spans = []
    for number, line in enumerate(text.splitlines(), 1):
        line = line.split("#")[0].strip()
        if not line:
            continue
        parts = line.split(",")
        try:
            low, high = (int(Decimal(part.strip()) * NS_PER_S) for part in parts)
        except (InvalidOperation, ValueError, OverflowError):
            raise InputError(f"{path} line {number}", f"“{line}”", "start,end in seconds") from None
        if high < low:
            raise InputError(f"{path} line {number}", "the span ends before it begins", "start,end") from None
        spans.append(Span(start + low, start + high))
    return spans
