"""Values: what do the devices say?"""

from __future__ import annotations

from keel.app.frame.view import Door, View


def _load() -> View:
    from keel.app.views.values.view import Values

    return Values()


DOOR = Door(
    "values",
    "5",
    "Values",
    "What do the devices say? Decoded signals; enter draws one, c sets cursors to measure between.",
    _load,
)
