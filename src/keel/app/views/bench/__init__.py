"""Bench: make it happen."""

from __future__ import annotations

from keel.app.frame.view import Door, View


def _load() -> View:
    from keel.app.views.bench.view import Bench

    return Bench()


DOOR = Door(
    "bench",
    "9",
    "Bench",
    "Make it happen: the simulated ferry's controls, and faults to inject.",
    _load,
)
