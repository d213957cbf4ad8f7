"""Rows of named cells as CSV."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping, Sequence
from typing import Any

from keel.model.safe_text import csv_cell


def rows_text(rows: Sequence[Mapping[str, Any]], header: bool = True) -> str:
    """Rows that have the same names as CSV, those ahead; what is None is empty, and text that a program could take for
    a formula is made harmless."""
    text = io.StringIO()
    out = csv.writer(text, lineterminator="\n")
    if rows and header:
        out.writerow([csv_cell(name) for name in rows[0]])
    for row in rows:
        out.writerow("" if one is None else csv_cell(one) if isinstance(one, str) else one for one in row.values())
    return text.getvalue()
