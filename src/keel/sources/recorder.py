"""The recorder: takes frames from a source and adds them to a recording until it is told to stop."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from keel.errors import ControlError, RecordingError
from keel.model.frames import FrameBatch
from keel.model.safe_text import plain
from keel.model.units import FIRST_DATED_NS
from keel.sources.source import Source
from keel.store.control import ControlReader, Status, write_status
from keel.store.manifest import Manifest, edit_manifest, load_manifest
from keel.store.writer import Writer, create_recording

POLL_S = 0.05
STATUS_EVERY_S = 0.2
PLENTY = 10_000
"""So many frames at once mean that more is waiting."""


def start_recording(folder: Path, source: Source) -> None:
    """Make the recording that `record` will add to."""
    manifest = Manifest(folder.stem, source.title, time.time_ns(), buses=list(source.buses))
    manifest.dictionary = source.dictionary
    create_recording(folder, manifest)


def record(
    folder: Path,
    source: Source,
    stopped: Callable[[], bool],
    seconds: float | None = None,
    on_status: Callable[[Status], None] = lambda _: None,
) -> Recorded:
    """Record until ``stopped`` says so, or for so many seconds.

    Every frame that the source hands over is in the recording or counted as lost, also on a full disk.

    Raises:
        RecordingBusy: another recorder has the recording.
        RecordingError: the recording is of other buses.
    """
    writer = Writer(folder)
    if not source.buses:
        # Its buses turn up with its frames; those that are known already come first.
        source.buses.extend(writer.buses)
    if [bus.name for bus in writer.buses] != [bus.name for bus in source.buses]:
        writer.close()
        has, comes = (", ".join(plain(bus.name) for bus in buses) for buses in (writer.buses, source.buses))
        raise RecordingError(str(folder), f"has the buses {has}, but frames come from {comes}")
    controls = ControlReader(folder)
    is_new = not load_manifest(folder).segments
    tally = _Tally()
    begin = time.monotonic()
    next_status = begin

    def say(behind_s: float = 0.0) -> None:
        status = Status(
            os.getpid(), time.time(), writer.taken, source.lost() + tally.dropped, behind_s, source.state(),
            tally.refused, tally.trouble, source.skipped(),
        )  # fmt: skip
        with suppress(OSError):
            write_status(folder, status)
        on_status(status)

    try:
        while not (stopped() or source.ended) and (seconds is None or time.monotonic() - begin < seconds):
            for name, value in controls.read_new():
                try:
                    source.control(name, value)
                    next_status = 0.0
                    tally.refused = ""
                except ControlError as error:
                    tally.refused = str(error)
            took = time.monotonic()
            batch = source.poll()
            if len(batch) and not writer.taken and is_new:
                _set_clock(folder, int(batch.time[0]))
                is_new = False
            _take(writer, source, batch, tally)
            now = time.monotonic()
            if now >= next_status:
                next_status = now + STATUS_EVERY_S
                say(max(now - took - POLL_S, 0.0))
            if len(batch) < PLENTY:
                time.sleep(max(POLL_S - (time.monotonic() - took), 0.001))
    finally:
        lost = source.lost() + tally.dropped
        source.close()
        try:
            writer.close()
        finally:
            sentences = source.said()
            if tally.dropped:
                sentences.append(f"{tally.dropped} frames are lost: {tally.why}")
            # First what others read of a recorder that ended badly; the manifest may find no room.
            say()
            if lost or sentences:
                _write_down(folder, lost, sentences)
    return Recorded(writer.taken, lost, source.skipped(), tuple(sentences))


def _set_clock(folder: Path, first: int) -> None:
    """Say in a new recording whether its times are dates, by its first one."""
    if first < FIRST_DATED_NS:
        # A disk without room for that has none for frames either, and that is told of.
        with suppress(OSError), edit_manifest(folder) as manifest:
            manifest.is_dated = False


@dataclass(frozen=True)
class Recorded:
    """What came of it: frames added, lost and skipped, and what a person should know, in sentences."""

    frames: int
    lost: int
    skipped: int
    sentences: tuple[str, ...]


@dataclass
class _Tally:
    """What could not be taken, and why; what was refused; what is wrong now."""

    dropped: int = 0
    why: str = ""
    refused: str = ""
    trouble: str = ""


def _take(writer: Writer, source: Source, batch: FrameBatch, tally: _Tally) -> None:
    """Add frames; what cannot be added is counted, to the frame."""
    before = writer.taken
    try:
        for bus in source.buses[len(writer.buses) :]:
            writer.add_bus(bus)
        writer.append(batch)
        tally.trouble = writer.trouble
    except OSError as error:
        # The disk may have room again later; until then what comes is lost, and counted.
        tally.dropped += len(batch) - (writer.taken - before)
        tally.why = error.what if isinstance(error, RecordingError) else f"cannot be written ({error.strerror})"
        tally.trouble = f"{tally.why}: frames are being lost"


def _write_down(folder: Path, lost: int, sentences: list[str]) -> None:
    """Say in the manifest what was lost.

    Raises:
        RecordingError: there is no room even for that; says what was to be said.
    """
    try:
        with edit_manifest(folder) as manifest:
            manifest.lost += lost
            manifest.notes += sentences
    except OSError as error:
        said = "; ".join(sentences)
        raise RecordingError(str(folder), f"cannot say ({error.strerror}): {lost} frames are lost; {said}") from None
