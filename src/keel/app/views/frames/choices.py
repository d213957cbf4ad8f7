"""What a person chose in Frames."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class FramesChoices:
    """How the frames are shown.

    Attributes:
        form: How payloads are written.
        time: Which time is shown: ``elapsed``, ``clock`` or ``zeroed``.
        shift: The first byte of payloads that is shown.
        top: The number of the first frame on the screen; None puts the one in hand in the middle.
        seen: How many frames there were when following ended.
        anatomy: Whether the frame in hand is taken apart beside the list.
    """

    form: str = "hex"
    time: str = "elapsed"
    shift: int = 0
    top: int | None = None
    seen: int | None = None
    anatomy: bool = True
