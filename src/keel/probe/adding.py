"""Waveforms into a recording that is there already, on its clock: beside the bus that was recorded meanwhile."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from keel.errors import InputError
from keel.model.frames import FrameBatch, empty_batch, replace_columns
from keel.model.outline import shift
from keel.model.waveform import Logic
from keel.probe.aligning import Alignment, align
from keel.probe.channels import Probed, probed
from keel.probe.decoding import Decoded, decode_channels, free_name
from keel.probe.importing import NOTHING_SAID, Said, channels_in
from keel.probe.lines import Line
from keel.probe.stored import add
from keel.store.recording import Recording, Snapshot

Progress = Callable[[int, int], None]


@dataclass(frozen=True)
class Added:
    """What came into a recording: what was found, how it lies on its clock, how many frames."""

    done: Decoded
    alignment: Alignment | None
    frames: int
    said: str


def add_waveforms(
    files: Sequence[Path],
    folder: Path,
    at: int | None,
    said: Said = NOTHING_SAID,
    progress: Progress = lambda *_: None,
) -> Added:
    """Add the waveforms of files to a recording, and what is read of them.

    Args:
        files: One after another; they have one clock.
        folder: The recording.
        at: Where their zero lies on its clock, in ns; None to find that by the frames that both have.
        said: What a person says of the lines.
        progress: Told how much of how much is read.

    Raises:
        InputError: a file cannot be read, or no frames tell where its zero lies.
        RecordingBusy: somebody writes to the recording.
        RecordingError: it cannot be written.
    """
    snapshot = Recording(folder).snapshot()
    taken = [entry.name for entry in snapshot.manifest.waveforms]
    channels = channels_in(files, said, progress, taken)
    done = decode_channels([probed(one, said.asked) for one in channels], said.wanted, said.asked)
    alignment = align(snapshot, _good(done.lines)) if at is None else None
    if at is not None:
        offset, sentence = at, f"its zero was laid by hand to {(at - snapshot.zero) / 1e9:.9g} s"
    elif alignment is not None:
        offset, sentence = alignment.offset, alignment.words(snapshot.manifest.buses[alignment.bus].name)
    else:
        expected = "where the zero of the file lies, as 12.5s"
        raise InputError("--align", "no bus of the recording has the frames that were read", expected)
    moved = _moved(done, offset, snapshot)
    # The one whose frames told where it lies; what else is in the files is of other buses.
    probe = max(moved.lines, key=lambda line: len(line.guess.frames), default=None)
    twins = {probe.bus: alignment.bus} if alignment is not None and probe is not None else {}
    frames = add(folder, snapshot, moved, offset, twins, sentence, said.given)
    return Added(moved, alignment, frames, sentence)


def _good(lines: Sequence[Line]) -> FrameBatch:
    """The frames of the line that has most of them."""
    return max((line.guess.frames for line in lines), key=len, default=empty_batch())


def _moved(done: Decoded, by: int, snapshot: Snapshot) -> Decoded:
    """The same so many ns later, with buses called otherwise than those of the recording."""
    taken = [bus.name for bus in snapshot.manifest.buses]
    moved = Decoded([_later(one, by) for one in done.channels], [], done.said)
    for line in done.lines:
        name = free_name(line.bus, taken)
        taken.append(name)
        frames = line.guess.frames
        guess = replace(line.guess, frames=replace_columns(frames, time=frames.time + by))
        of = line.of
        wave = shift(of.wave, by) if of.wave is not None else None
        wires = tuple(replace(one, logic=_levels_later(one.logic, by)) for one in of.wires)
        later = replace(of, logic=_levels_later(of.logic, by), wave=wave, wires=wires)
        moved.lines.append(Line(name, guess, line.runner_up, later))
    return moved


def _later(one: Probed, by: int) -> Probed:
    return replace(
        one, channel=replace(one.channel, wave=shift(one.channel.wave, by)), logic=_levels_later(one.logic, by)
    )


def _levels_later(logic: Logic, by: int) -> Logic:
    moved = shift(logic, by)
    assert isinstance(moved, Logic)
    return moved
