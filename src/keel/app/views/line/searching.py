"""Looking for a raw condition on a channel, behind the interface."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from keel.app.desk.errands import Errand
from keel.app.views.line.choices import Sought

if TYPE_CHECKING:
    from keel.app.desk.making import Making


@dataclass(frozen=True, eq=False)
class Finds:
    """Each time that it was met: begin and end in ns."""

    spans: tuple[tuple[int, int], ...]
    total: int


MOST_LISTED = 10_000


def searching(making: Making, sought: Sought) -> Errand[Finds]:
    """How a search stands."""
    key = (making.folder, making.snapshot.manifest.generation, sought)
    return making.errands.run(Finds, key, lambda stopped, _: _search(making, sought, stopped))


def _search(making: Making, sought: Sought, stopped: Callable[[], bool]) -> Finds:
    from keel.probe.conditions import find, parse_condition
    from keel.probe.looking import levels_of
    from keel.probe.stored import wave_of
    from keel.store.waveform_entries import channels

    condition = parse_condition(sought.text)
    snapshot = making.snapshot
    entry = next((one for one in channels(snapshot.manifest.waveforms) if one.number == sought.channel), None)
    if entry is None:
        return Finds((), 0)
    # Levels as a line was read by them, if one was; runts show in volts alone.
    levels = levels_of(snapshot, entry) if condition.of != "runt" else None
    found = find(levels if levels is not None else wave_of(snapshot, entry), condition, stopped)
    pairs = zip(found.starts[:MOST_LISTED].tolist(), found.ends[:MOST_LISTED].tolist(), strict=True)
    return Finds(tuple(pairs), len(found))
