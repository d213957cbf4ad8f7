"""A comparison for the Compare view: which recordings there are, the run itself, where a difference is seen."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Literal

from keel.app.dialogs.dialogs import Choice
from keel.app.paint.words import duration
from keel.app.views.compare.view import Task
from keel.compare.difference import Difference
from keel.compare.differences import Comparison, compare
from keel.compare.sides import Side, together
from keel.store.library import find_recording, shelf
from keel.store.recording import Recording, Snapshot


def run(snapshot: Snapshot, task: Task, stopped: Callable[[], bool]) -> Comparison:
    """Compare; for a worker's thread.

    Raises:
        KeelError: the other recording cannot be opened.
    """
    other = snapshot if task.other is None else Recording(find_recording(task.other)).snapshot()
    a, b = Side.of(snapshot, task.ask, task.a), Side.of(other, task.ask, task.b)
    return compare(together(a, b, task.align, dict(task.buses)), stopped)


def frame_at(folder: Path, time: int) -> int:
    """The number of the first frame of a recording at or after a time."""
    scene = Recording(folder).snapshot()
    return Side.of(scene).matches.frame_at(time) or 0


def others(folder: Path | None) -> list[Choice]:
    """The recordings on the shelf, but for one."""
    here = folder.resolve() if folder else None
    return [
        Choice(str(one.folder), f"{one.name}  {duration(int(one.seconds * 1e9))}  {one.frames} frames  {one.source}")
        for one in shelf()
        if one.folder.resolve() != here and not one.problem
    ]


def place_of(found: Comparison, side: Literal["a", "b"], difference: Difference) -> tuple[int | None, int | None]:
    """The identifier on a side, and the number of the frame to look at; None if there is none."""
    of = found.a if side == "a" else found.b
    time = difference.time_a if side == "a" else difference.time_b
    key = difference.key
    if side == "b" and key is not None:
        key = found.buses.to_b(key)
    if key is not None and side == "a" and key >> 56 >= len(found.buses.a):
        return None, None
    return key, None if time is None else of.matches.frame_at(time)
