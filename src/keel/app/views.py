"""The views, all together. Loading this loads all that they need."""

from __future__ import annotations

from typing import Any

from keel.app.bench import Bench
from keel.app.compare import CompareView
from keel.app.frames import Frames
from keel.app.health import HealthView
from keel.app.hunt import Hunt
from keel.app.state import BENCH, COMPARE, FRAMES, HEALTH, HUNT, VALUES, WATCH
from keel.app.values import Values
from keel.app.watch import Watch


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
