"""The views there are, in the order of their keys. A view more is its folder and one line here."""

from __future__ import annotations

from keel.app.frame.view import Door
from keel.app.views import bench, compare, frames, health, hunt, line, values, watch

DOORS: list[Door] = [
    watch.DOOR,
    frames.DOOR,
    health.DOOR,
    hunt.DOOR,
    values.DOOR,
    compare.DOOR,
    line.DOOR,
    bench.DOOR,
]
