"""Waveforms and what was read of them, as a recording keeps them: made, looked up, decoded anew."""

from __future__ import annotations

import shutil
import time
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from keel.errors import InputError, RecordingError
from keel.lines.clocked import Wire
from keel.model.frames import FrameBatch, concat, empty_batch, replace_columns
from keel.model.waveform import Channel, Logic
from keel.probe.channels import Probed, probed
from keel.probe.decoding import Decoded
from keel.probe.lines import Line, told
from keel.probe.made import made, parse_formula
from keel.probe.measuring import facts
from keel.store.manifest import Manifest, edit_manifest, load_manifest
from keel.store.recording import Snapshot
from keel.store.replacing import replace_frames
from keel.store.waveform_entries import LineEntry, WaveformEntry
from keel.store.waveforms import StoredWaveform, write_waveform
from keel.store.writer import Writer, create_recording

Progress = Callable[[int, int], None]


def record(
    done: Decoded, folder: Path, source: str, given: Sequence[str] = (), progress: Progress = lambda *_: None
) -> int:
    """Make a recording of waveforms and of the lines that were read; how many frames it has.

    It appears whole or not at all: it is built beside its place and moved there.

    Args:
        done: What was read.
        folder: The recording to be.
        source: Where the waveforms came from, in words.
        given: What a person set, by name.
        progress: Told how many parts of how many are written; what it raises gives it up.

    Raises:
        RecordingError: there is something of that name already, or no room.
    """
    if folder.exists():
        raise RecordingError(str(folder), "there is something of this name already")
    draft = folder.with_name(f".{folder.name}.draft")
    shutil.rmtree(draft, ignore_errors=True)
    manifest = Manifest(folder.stem, source, time.time_ns())
    manifest.is_dated = False
    manifest.buses = [replace(line.guess.bus, name=line.bus) for line in done.lines]
    create_recording(draft, manifest)
    try:
        frames = _fill(draft, done, given, progress)
        draft.rename(folder)
    except BaseException:
        shutil.rmtree(draft, ignore_errors=True)
        raise
    return frames


def _fill(folder: Path, done: Decoded, given: Sequence[str], progress: Progress) -> int:
    parts = len(done.channels) + len(done.lines) + 1
    entries = []
    for number, one in enumerate(done.channels, 1):
        entries.append(_written(folder, number, one, done))
        progress(number, parts)
    lines = []
    for number, line in enumerate(done.lines):
        entries = placed(entries, made_for(folder, len(entries) + 1, line, entries), line)
        lines.append(line_entry(number, line, entries, given))
        progress(len(done.channels) + number + 1, parts)
    with edit_manifest(folder) as manifest:
        manifest.waveforms, manifest.lines = entries, lines
    whole = frames_of(done.lines, range(len(done.lines)))
    writer = Writer(folder, journal=False)
    try:
        writer.append(whole)
    finally:
        writer.close()
    progress(parts, parts)
    return len(whole)


def add(
    folder: Path,
    snapshot: Snapshot,
    done: Decoded,
    offset: int,
    twins: Mapping[str, int],
    sentence: str,
    given: Sequence[str] = (),
) -> int:
    """Add waveforms and the lines that were read to a recording; how many frames came.

    Args:
        folder: The recording.
        snapshot: What it is now.
        done: What was read, on its clock; buses and channels have names that are free.
        offset: What was added to the times of the files.
        twins: The buses that have the same frames, by the names of the lines.
        sentence: How they were laid onto its clock.
        given: What a person set, by name.

    Raises:
        RecordingBusy: somebody writes to it.
        RecordingError: it cannot be written.
    """
    manifest = snapshot.manifest
    highest = max((entry.number for entry in manifest.waveforms), default=0)
    entries = [_written(folder, highest + number, one, done) for number, one in enumerate(done.channels, 1)]
    lines, first = [], len(manifest.buses)
    for number, line in enumerate(done.lines, first):
        entries = placed(entries, made_for(folder, highest + len(entries) + 1, line, entries), line)
        lines.append(replace(line_entry(number, line, entries, given), twin=twins.get(line.bus, -1)))
    entries = [replace(entry, offset=offset) for entry in entries]

    def change(draft: Manifest) -> None:
        draft.waveforms = [*draft.waveforms, *entries]
        draft.lines = [*draft.lines, *lines]
        draft.buses = [*draft.buses, *(replace(line.guess.bus, name=line.bus) for line in done.lines)]
        draft.notes = [*draft.notes, *(f"{line.bus}: {sentence}" for line in done.lines)]

    fresh = frames_of(done.lines, range(first, first + len(done.lines)))
    replace_frames(folder, set(range(first, first + len(done.lines))), fresh, change)
    return len(fresh)


def _written(folder: Path, number: int, one: Probed, done: Decoded) -> WaveformEntry:
    channel = replace(one.channel, notes=(*one.said(), *done.said.get(one.channel.name, [])))
    line = next((line for line in done.lines if one.channel.name in line.of.roles), None)
    measured = facts(one, line)
    if channel.formula:
        begin, end, notes = channel.wave.start, channel.wave.end, channel.notes
        return WaveformEntry(
            number, channel.name, "made", begin, end, formula=channel.formula, notes=notes, measured=measured
        )
    return replace(write_waveform(folder, number, channel), measured=measured)


def made_for(folder: Path, number: int, line: Line, known: Sequence[WaveformEntry]) -> list[WaveformEntry]:
    """What a line adds: the channel it is made as, and the levels it was read from, if they are of no channel."""
    of, found = line.of, []
    begin, end = of.logic.start, of.logic.end
    if of.wires:
        analog = {entry.name for entry in known if entry.is_channel and entry.kind != "logic"}
        waves = [Channel(one.name, 0, one.logic) for one in of.wires if one.name in analog]
        return [write_waveform(folder, number + place, wave, "levels") for place, wave in enumerate(waves)]
    if of.formula is not None and of.wave is not None and not any(entry.name == of.name for entry in known):
        measured = facts(probed(Channel(of.name, 0, of.wave)), line)
        found.append(WaveformEntry(number, of.name, "made", begin, end, formula=of.formula.text, measured=measured))
    if of.formula is None and any(entry.name == of.name and entry.kind == "logic" for entry in known):
        return found
    levels = write_waveform(folder, number + len(found), Channel(of.name, 0, of.logic), "levels")
    return [*found, levels]


def placed(known: Sequence[WaveformEntry], more: Sequence[WaveformEntry], line: Line) -> list[WaveformEntry]:
    """What a line adds stands behind the channels that it is made of."""
    place = max((n for n, entry in enumerate(known) if entry.name in line.of.roles), default=len(known) - 1) + 1
    return [*known[:place], *more, *known[place:]]


def line_entry(bus: int, line: Line, entries: Sequence[WaveformEntry], given: Sequence[str]) -> LineEntry:
    """A line as the manifest lists it, with its bus's number and what a person set of it."""
    guess, roles = line.guess, line.of.roles
    read = {entry.name: entry.number for entry in entries if entry.kind in ("levels", "logic")}
    wires = {one.name: read[one.name] for one in line.of.wires}
    over = line.over
    levels = next(iter(wires.values())) if wires else read[line.of.name]
    return LineEntry(
        bus, guess.code, dict(roles), levels, dict(guess.how), dict(guess.settings), guess.rate,
        guess.fast_rate, guess.inverted, round(guess.explained, 4), tuple(given), tuple(told(line)),
        int(guess.frames.duration.max(initial=0)) if guess.frames.duration is not None else 0,
        wires=wires, over=over,
    )  # fmt: skip


def frames_of(lines: Sequence[Line], numbers: Sequence[int]) -> FrameBatch:
    """The frames of some lines in the order of their time, with the numbers of their buses."""
    parts = [
        replace_columns(line.guess.frames, bus=np.full(len(line.guess.frames), number, np.uint8))
        for line, number in zip(lines, numbers, strict=True)
    ]
    whole = concat([part for part in parts if len(part)] or [empty_batch()])
    return whole.take(np.argsort(whole.time, kind="stable"))


def line_of(manifest: Manifest, bus: int) -> LineEntry | None:
    """How the frames of a bus were decoded; None of one that was not."""
    return next((line for line in manifest.lines if line.bus == bus), None)


def waveform_named(snapshot: Snapshot, number: int) -> StoredWaveform:
    """A waveform by its number.

    Raises:
        InputError: there is none.
    """
    for stored in snapshot.waveforms:
        if stored.entry.number == number:
            return stored
    raise InputError(snapshot.manifest.name, f"has no waveform {number}", "one that the manifest lists")


def wave_of(snapshot: Snapshot, entry: WaveformEntry) -> Any:
    """A channel's waveform; one that is made is made now."""
    if entry.kind != "made":
        return waveform_named(snapshot, entry.number).wave
    formula = parse_formula(entry.formula)
    waves = {one.name: one for one in snapshot.manifest.waveforms if one.is_channel and one.name in formula.of}
    return made(formula, {name: wave_of(snapshot, one) for name, one in waves.items()})


def channels_of(snapshot: Snapshot, names: Collection[str] | None = None) -> list[Channel]:
    """The channels of a recording in ns on its clock, all of them or those of some names."""
    entries = [entry for entry in snapshot.manifest.waveforms if entry.is_channel]
    return [
        Channel(e.name, e.number, wave_of(snapshot, e), e.others, formula=e.formula)
        for e in entries
        if names is None or {e.name, *e.others, str(e.number)} & set(names)
    ]


def levels_read(snapshot: Snapshot, line: LineEntry) -> Logic:
    """The levels that a line was read from, exchanged if they were."""
    wave = waveform_named(snapshot, line.levels).wave
    assert isinstance(wave, Logic)
    return wave.inverted if line.inverted else wave


def wires_read(snapshot: Snapshot, line: LineEntry) -> list[Wire]:
    """The wires that a line of several was read from; none of others."""
    found = []
    for name, number in line.wires.items():
        wave = waveform_named(snapshot, number).wave
        assert isinstance(wave, Logic)
        found.append(Wire(name, line.channels.get(name, ""), wave))
    return found


def is_recording(path: Path) -> bool:
    """Whether a path is a recording rather than a file of waveforms."""
    if not path.is_dir():
        return False
    load_manifest(path)
    return True
