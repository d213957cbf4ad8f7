"""Watch: who talks, and what just moved?"""

from __future__ import annotations

from keel.app.frame.view import Door, View


def _load() -> View:
    from keel.app.views.watch.view import Watch

    return Watch()


DOOR = Door(
    "watch",
    "1",
    "Watch",
    "Who talks, and what just moved? A row for each identifier; bytes glow when they are fresh.",
    _load,
)
