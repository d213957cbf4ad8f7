"""Hunt: which field carries it?"""

from __future__ import annotations

from keel.app.frame.view import Door, View


def _load() -> View:
    from keel.app.views.hunt.view import Hunt

    return Hunt()


DOOR = Door(
    "hunt",
    "4",
    "Hunt",
    "Which field carries it? Marks, readings, a log, a value, good against bad, or nothing at all.",
    _load,
)
