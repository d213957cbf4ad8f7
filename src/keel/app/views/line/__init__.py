"""Line: what does the wire really do?"""

from __future__ import annotations

from keel.app.frame.view import Door, View


def _load() -> View:
    from keel.app.views.line.view import LineView

    return LineView()


DOOR = Door(
    "line",
    "7",
    "Line",
    "What does the wire really do? Waveforms with what was read of them; w in other views shows a frame's.",
    _load,
)
