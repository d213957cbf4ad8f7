"""The views, all together. Loading this loads all that they need."""

from __future__ import annotations

from typing import Any

from keel.app.shared.state import BENCH, COMPARE, FRAMES, HEALTH, HUNT, VALUES, WATCH
from keel.app.views.bench.view import Bench
from keel.app.views.compare.view import CompareView
from keel.app.views.frames.view import Frames
from keel.app.views.health.view import HealthView
from keel.app.views.hunt.view import Hunt
from keel.app.views.values.view import Values
from keel.app.views.watch.view import Watch


def make_views() -> dict[str, Any]:
    """One of each, by name."""
    return {
        WATCH: Watch(),
        FRAMES: Frames(),
        HEALTH: HealthView(),
        HUNT: Hunt(),
        VALUES: Values(),
        COMPARE: CompareView(),
        BENCH: Bench(),
    }
