"""Compare: what is different?"""

from __future__ import annotations

from keel.app.frame.view import Door, View


def _load() -> View:
    from keel.app.views.compare.view import CompareView

    return CompareView()


DOOR = Door(
    "compare",
    "6",
    "Compare",
    "What is different? Two recordings, or two spans: ranked, with a jump to both sides.",
    _load,
)
