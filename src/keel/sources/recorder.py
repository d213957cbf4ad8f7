"""The recorder: takes frames from a source and adds them to a recording until it is told to stop."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from keel.errors import ControlError, RecordingError
from keel.model.plain import plain
from keel.sources.source import Source
from keel.store.control import ControlReader, Status, write_status
from keel.store.manifest import Manifest, edit_manifest
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
) -> int:
    """Record until ``stopped`` says so, or for so many seconds.

    Returns:
        How many frames were added.

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
    frames, dropped, refused, trouble = 0, 0, "", ""
    begin = time.monotonic()
    next_status = begin
    try:
        while not (stopped() or source.ended) and (seconds is None or time.monotonic() - begin < seconds):
            for name, value in controls.read_new():
                try:
                    source.control(name, value)
                    next_status = 0.0
                    refused = ""
                except ControlError as error:
                    refused = str(error)
            took = time.monotonic()
            batch = source.poll()
            for bus in source.buses[len(writer.buses) :]:
                writer.add_bus(bus)
            try:
                writer.append(batch)
                frames += len(batch)
                trouble = writer.trouble
            except RecordingError as error:
                # The disk may have room again later; until then what comes is lost, and counted.
                dropped += len(batch)
                trouble = f"{error.what}: frames are being lost"
            now = time.monotonic()
            if now >= next_status:
                next_status = now + STATUS_EVERY_S
                status = Status(
                    os.getpid(), time.time(), frames, source.lost() + dropped, max(now - took - POLL_S, 0.0),
                    source.state(), refused, trouble,
                )  # fmt: skip
                with suppress(OSError):
                    write_status(folder, status)
                on_status(status)
            if len(batch) < PLENTY:
                time.sleep(max(POLL_S - (time.monotonic() - took), 0.001))
    finally:
        lost = source.lost() + dropped
        source.close()
        try:
            writer.close()
        finally:
            said = source.said()
            if lost or said:
                with edit_manifest(folder) as manifest:
                    manifest.lost += lost
                    manifest.notes += said
    return frames
