"""What can be exported of Compare: the differences as a report."""

from __future__ import annotations

import json
from pathlib import Path

from keel.app.dialogs.offers import stem_of
from keel.app.frame.helm import Here, Offer
from keel.compare.differences import Comparison


def offers_of(here: Here, found: Comparison) -> list[Offer]:
    """The report, with drawings or as JSON."""
    count, stem = len(found.differences), stem_of(here.picture)
    differences = f"{count} difference{'s' if count != 1 else ''}"
    return [
        Offer(
            f"the {differences} as a report with drawings, HTML",
            f"{stem}-compared.html",
            lambda path: _save_html(path, found),
        ),
        Offer(f"the {differences} as JSON", f"{stem}-compared.json", lambda path: _save_json(path, found)),
    ]


def _save_html(path: Path, found: Comparison) -> list[str]:
    from keel.compare.report import as_html
    from keel.draw.comparison_charts import drawings_of

    path.write_text(as_html(found, drawings_of(found)), encoding="utf-8")
    return []


def _save_json(path: Path, found: Comparison) -> list[str]:
    from keel.compare.report import as_json

    path.write_text(json.dumps(as_json(found), indent=1) + "\n", encoding="utf-8")
    return []
