"""Health: what is wrong on the line?"""

from __future__ import annotations

from keel.app.frame.view import Door, View


def _load() -> View:
    from keel.app.views.health.view import HealthView

    return HealthView()


DOOR = Door(
    "health",
    "3",
    "Health",
    "What is wrong on the line? Load, faults with a jump to each, cycle times and who stopped.",
    _load,
)
