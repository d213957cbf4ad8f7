"""A comparison, and where a difference is seen."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

from keel.app.views.compare.choices import Task
from keel.compare.difference import Difference
from keel.compare.differences import Comparison, compare
from keel.compare.sides import Side, together
from keel.store.library import find_recording
from keel.store.recording import Recording, Snapshot

Which = Literal["this", "other"]


def run(snapshot: Snapshot, task: Task, ask: str, stopped: Callable[[], bool]) -> Comparison:
    """Compare, on a thread of its own.

    Raises:
        KeelError: the other recording cannot be opened.
    """
    other = snapshot if task.other is None else Recording(find_recording(task.other)).snapshot()
    mine, theirs = Side.of(snapshot, ask, task.mine), Side.of(other, ask, task.theirs)
    return compare(together(mine, theirs, task.align, dict(task.buses)), stopped)


def place_of(found: Comparison, which: Which, difference: Difference) -> tuple[int | None, int | None]:
    """The identifier on a side, and the number of the frame to look at; None if there is none."""
    side = found.a if which == "this" else found.b
    time = difference.time_a if which == "this" else difference.time_b
    key = difference.key
    if which == "other" and key is not None:
        key = found.buses.to_b(key)
    if key is not None and which == "this" and key >> 56 >= len(found.buses.a):
        return None, None
    return key, None if time is None else side.matches.frame_at(time)
