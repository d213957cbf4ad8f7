"""Captures of one line after another: their channels joined in sequence, and the lines read over all of it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from keel.errors import InputError
from keel.lines.code import Asked
from keel.model.outline import shift
from keel.model.waveform import Analog, Channel, Logic
from keel.probe.candidates import Wanted
from keel.probe.channels import Probed, probed
from keel.probe.decoding import Decoded, decode_channels
from keel.probe.importing import NOTHING_SAID, Said, channels_in
from keel.probe.lines import Line
from keel.probe.made import made, parse_formula
from keel.probe.measuring import facts
from keel.probe.stored import channels_of, frames_of, line_entry, made_for, placed
from keel.store.manifest import Manifest
from keel.store.recording import Recording, Snapshot
from keel.store.replacing import replace_frames
from keel.store.waveform_entries import LineEntry, WaveformEntry
from keel.store.waveforms import write_waveform

Progress = Callable[[int, int], None]
GAP_SHARE, MOST_GAP_NS, LEAST_GAP_NS = 0.01, 1_000_000, 1_000
"""How long passed from one capture to the next is not known: so much is left between them, as a share of the first."""
SAME_STEP = 1e-6


@dataclass(frozen=True)
class Appended:
    """What came of it: what was found over all captures, how many frames there are, and how they lie."""

    done: Decoded
    frames: int
    said: str


def joined(first: Channel, second: Channel) -> Channel:
    """Two captures of a channel as one; what lies between them is not known.

    Args:
        first: What was captured first.
        second: What came later, on the same clock.

    Raises:
        InputError: one is volts and the other levels, or they were sampled at other intervals.
    """
    a, b = first.wave, second.wave
    notes = tuple(dict.fromkeys((*first.notes, *second.notes)))
    if isinstance(a, Logic) and isinstance(b, Logic):
        return replace(first, wave=_levels(a, b), notes=notes)
    if isinstance(a, Analog) and isinstance(b, Analog):
        if abs(a.step - b.step) > SAME_STEP * a.step:
            why = f"is sampled each {b.step:g} ns, what is there each {a.step:g} ns"
            raise InputError(second.name, why, "captures at one interval")
        return replace(first, wave=_volts(a, b), notes=notes)
    raise InputError(second.name, "is levels in one capture and volts in the other", "captures of one kind")


def _levels(a: Logic, b: Logic) -> Logic:
    edges = [a.edges]
    if a.level_at(a.end) != b.first:
        # When it changed in between nobody knows; that it has changed holds from the second capture on.
        edges.append(np.array([b.start], np.int64))
    unknown = (*a.unknown, (a.end, b.start), *b.unknown)
    return Logic(a.start, b.end, a.first, np.concatenate([*edges, b.edges]), unknown, max(a.grain, b.grain))


def _volts(a: Analog, b: Analog) -> Analog:
    samples = [np.asarray(a.samples, np.float32) * np.float32(a.scale)]
    between = max(round((b.start - a.start) / a.step) - len(a), 0)
    last = samples[0][-1:] if len(a) else np.zeros(1, np.float32)
    samples.append(np.repeat(last, between))
    samples.append(np.asarray(b.samples, np.float32) * np.float32(b.scale))
    unknown = (*a.unknown, (a.end, b.start), *b.unknown)
    return Analog(a.start, a.step, np.concatenate(samples), unknown=unknown)


def in_sequence(known: Sequence[Channel], fresh: Sequence[Channel]) -> list[Channel]:
    """The channels of a capture behind those of one before it, by their names; an only one behind the only one.

    A capture whose times go on where the one before ended stays where it is.

    Raises:
        InputError: a channel is not among those that are there.
    """
    by_name = {one.name: one for one in known}
    if len(known) == len(fresh) == 1:
        pairs = [(known[0], fresh[0])]
    else:
        missing = [one.name for one in fresh if one.name not in by_name]
        missing += [name for name in by_name if name not in {one.name for one in fresh}]
        if missing:
            raise InputError("--append", f"{missing[0]} is not in both captures", ", ".join(by_name))
        pairs = [(by_name[one.name], one) for one in fresh]
    end, begin = max(one.wave.end for one in known), min(one.wave.start for one in fresh)
    length = end - min(one.wave.start for one in known)
    gap = int(min(max(GAP_SHARE * length, LEAST_GAP_NS), MOST_GAP_NS))
    by = end + gap - begin if begin <= end else 0
    return [joined(a, replace(b, wave=shift(b.wave, by))) for a, b in pairs]


def append_waveforms(
    files: Sequence[Path], folder: Path, said: Said = NOTHING_SAID, progress: Progress = lambda *_: None
) -> Appended:
    """Put captures behind what a recording holds of the same channels, and read its lines over all of it; undoable.

    Args:
        files: One after another.
        folder: The recording.
        said: What a person says of the numbers in the files; how the lines are read stays as it is.
        progress: Told how much of how much is read.

    Raises:
        InputError: a file cannot be read, or has other channels than the recording.
        RecordingBusy: somebody writes to the recording.
        RecordingError: it cannot be written.
    """
    snapshot = Recording(folder).snapshot()
    manifest = snapshot.manifest
    recorded = [entry.name for entry in manifest.waveforms if entry.is_channel and entry.kind != "made"]
    channels = channels_of(snapshot, set(recorded)) if recorded else []
    if not channels:
        raise InputError(manifest.name, "holds no waveform that could go on", "a recording that keel decode made")
    for file in files:
        channels = in_sequence(channels, channels_in([file], replace(said, made=()), progress))
    waves = {one.name: one.wave for one in channels}
    for entry in manifest.waveforms:
        if entry.kind == "made":
            wave = made(parse_formula(entry.formula), waves)
            channels.append(Channel(entry.name, entry.number, wave, formula=entry.formula))
    known = [probed(channel) for channel in channels]
    done = Decoded(known)
    if manifest.lines:
        for line in manifest.lines:
            done.lines.append(_again(line, known, snapshot))
    else:
        done = decode_channels(known, said.wanted, said.asked)
    frames = _exchange(folder, snapshot, done)
    begins = ", ".join(sorted({f"{low / 1e9:.6f} s" for one in known for low, _ in one.channel.wave.unknown[-1:]}))
    count = f"{len(files)} capture{'s' if len(files) != 1 else ''}"
    return Appended(done, frames, f"{count} behind what was there; the last follows {begins}")


def _again(line: LineEntry, known: Sequence[Probed], snapshot: Snapshot) -> Line:
    """A line read over all captures as it was read before."""
    name = snapshot.manifest.buses[line.bus].name
    settings = {key: str(line.settings[key]) for key in line.given if key in line.settings}
    is_said = "rate" in line.given
    asked = Asked(
        line.rate if is_said else None,
        line.fast_rate if is_said else None,
        line.inverted if "polarity" in line.given else None,
        settings,
    )
    mine = [one for one in known if one.channel.name in line.channels]
    roles = dict(line.channels)
    wanted = Wanted(line.code, tuple(roles), {} if set(roles.values()) == {"line"} else roles)
    found = decode_channels([probed(one.channel, asked) for one in mine], [wanted], asked).lines
    if not found:
        raise InputError(name, f"cannot be read as {line.code} over all captures", "captures of one line")
    found[0].bus = name
    return found[0]


def _exchange(folder: Path, snapshot: Snapshot, done: Decoded) -> int:
    """Exchange the channels, lines and frames of a recording for those that were joined; how many frames there are."""
    manifest = snapshot.manifest
    numbers = _numbers(manifest, done)
    highest = max((entry.number for entry in manifest.waveforms), default=0)
    entries: list[WaveformEntry] = []
    for place, one in enumerate(done.channels, 1):
        line = next((line for line in done.lines if one.channel.name in line.of.roles), None)
        entries.append(_written(folder, highest + place, one, facts(one, line)))
    lines = []
    for number, line in zip(numbers, done.lines, strict=True):
        more = made_for(folder, highest + len(entries) + 1, line, entries)
        entries = placed(entries, more, line)
        given = next((known.given for known in manifest.lines if known.bus == number), ())
        lines.append(line_entry(number, line, entries, given))
    fresh = frames_of(done.lines, numbers)

    def change(draft: Manifest) -> None:
        draft.waveforms, draft.lines = entries, lines
        buses = list(draft.buses)
        for number, line in zip(numbers, done.lines, strict=True):
            renewed = replace(line.guess.bus, name=line.bus)
            buses = [*buses[:number], renewed, *buses[number + 1 :]]
        draft.buses = buses

    replace_frames(folder, set(numbers), fresh, change)
    return len(fresh)


def _numbers(manifest: Manifest, done: Decoded) -> list[int]:
    """The buses of the lines: those that they have, or new ones."""
    known: Mapping[str, int] = {manifest.buses[line.bus].name: line.bus for line in manifest.lines}
    free = len(manifest.buses)
    found = []
    for line in done.lines:
        if line.bus in known:
            found.append(known[line.bus])
        else:
            found.append(free)
            free += 1
    return found


def _written(folder: Path, number: int, one: Probed, measured: Mapping[str, float]) -> WaveformEntry:
    """A channel as the recording keeps it: its waveform, or its formula."""
    channel = replace(one.channel, notes=tuple(one.said()))
    wave = channel.wave
    if channel.formula:
        return WaveformEntry(
            number, channel.name, "made", wave.start, wave.end, formula=channel.formula, measured=measured
        )
    return replace(write_waveform(folder, number, channel), measured=measured)
