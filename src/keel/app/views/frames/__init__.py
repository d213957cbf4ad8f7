"""Frames: what happened, in order?"""

from __future__ import annotations

from keel.app.frame.view import Door, View


def _load() -> View:
    from keel.app.views.frames.view import Frames

    return Frames()


DOOR = Door(
    "frames",
    "2",
    "Frames",
    "What happened, in order? What ask and lens leave, one frame taken apart.",
    _load,
)
