"""What is measured of the channels in the lens: levels, edges, rates; behind the interface."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from keel.app.desk.errands import Errand
from keel.model.span import Span

if TYPE_CHECKING:
    from keel.app.desk.making import Making
    from keel.store.recording import Snapshot
    from keel.store.waveform_entries import LineEntry, WaveformEntry

MOST_POINTS = 1_000_000
"""A lens with more samples or edges of a channel is not measured anew: what was measured of all of it holds."""


@dataclass(frozen=True, eq=False)
class Figures:
    """What was measured in a lens, by the number of each channel; as `WaveformEntry.measured` has it."""

    of: Mapping[int, Mapping[str, float]] = field(default_factory=dict)


def measuring(making: Making, numbers: tuple[int, ...]) -> Errand[Figures]:
    """How measuring the lens stands; nothing where all of the recording is looked at."""
    lens = making.lens
    if lens == making.whole:
        return Errand()
    key = (making.folder, making.snapshot.manifest.generation, lens, numbers)
    return making.errands.run(Figures, key, lambda _, __: _measured(making.snapshot, lens, numbers))


def _measured(snapshot: Snapshot, lens: Span, numbers: tuple[int, ...]) -> Figures:
    from keel.store.waveform_entries import channels, line_of_channel

    manifest = snapshot.manifest
    entries = {entry.number: entry for entry in channels(manifest.waveforms)}
    found: dict[int, Mapping[str, float]] = {}
    for number in numbers:
        entry = entries.get(number)
        if entry is not None and _points(entry, list(entries.values()), lens) <= MOST_POINTS:
            line = line_of_channel(manifest.waveforms, manifest.lines, entry)
            found[number] = _of_channel(snapshot, entry, line, lens)
    return Figures(found)


def _points(entry: WaveformEntry, entries: Sequence[WaveformEntry], lens: Span) -> float:
    """About how many samples or edges of a channel lie in the lens; what is made has as many as what it is made of."""
    from keel.probe.made import parse_formula

    points = entry.points
    if entry.kind == "made":
        of = parse_formula(entry.formula).of
        points = max((one.points for one in entries if one.name in of), default=0)
    return points * (lens.end - lens.start) / max(entry.end - entry.start, 1)


def _of_channel(snapshot: Snapshot, entry: WaveformEntry, line: LineEntry | None, lens: Span) -> Mapping[str, float]:
    from keel.probe.anew import Anew, part_of, try_reading
    from keel.probe.channels import probed
    from keel.probe.measuring import facts
    from keel.probe.stored import channels_of

    (channel,) = [one for one in channels_of(snapshot, {entry.name}) if one.name == entry.name]
    one = probed(part_of(channel, lens, MOST_POINTS))
    if line is None:
        return facts(one)
    done, _ = try_reading(snapshot, Anew(snapshot.manifest.buses[line.bus].name, line.code), lens, MOST_POINTS)
    # A lens without a whole frame says nothing of rates but by its edges; and how a line rests, only all of it says.
    read = next((found for found in done.lines if found.guess.is_told), None)
    idle = {"idle": entry.measured["idle"]} if "idle" in entry.measured else {}
    return {**facts(one, read), **idle}
