"""Sailing as fast as the machine goes, into a recording or a text log."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

from keel.bench.ferry import Ferry
from keel.bench.messages import BUSES, published_dictionary
from keel.errors import RecordingError
from keel.formats.exporting import Setting, open_writer
from keel.formats.textlog import format_lines
from keel.model.frames import FrameBatch
from keel.store.manifest import Manifest
from keel.store.writer import Writer, create_recording

STRETCH_S = 2.0


def sail(
    seconds: float,
    out: Path,
    seed: int,
    events: list[tuple[float, str, str]],
    progress: Callable[[float], None] = lambda _: None,
    with_others: bool = False,
) -> int:
    """Sail for some seconds and write what was sent.

    Args:
        seconds: How long, in the ferry's time.
        out: A recording to make; with the ending ``.log`` a text log of CAN, with ``.pcapng`` a capture.
        seed: The voyage.
        events: (time in s, control, value): what is worked when.
        progress: Told the time sailed.
        with_others: Whether the lines that are no CAN are heard, too.

    Returns:
        How many frames were sent.

    Raises:
        RecordingError: something of that name is there already.
    """
    if out.exists():
        raise RecordingError(str(out), "there is something of this name already")
    ferry = Ferry(seed, with_others=with_others)
    stretches = _stretches(ferry, seconds, sorted(events, key=lambda e: e[0]), progress)
    if out.suffix in (".log", ".txt"):
        names = [bus.name.lower() for bus in BUSES]
        frames = 0
        with out.open("w", encoding="ascii") as file:
            for batch in stretches:
                batch = batch.take(np.flatnonzero(batch.bus < len(BUSES)))
                lines = list(format_lines(batch, names))
                frames += len(lines)
                file.writelines(line + "\n" for line in lines)
        return frames
    if out.suffix == ".pcapng":
        return _capture(out, ferry, stretches)
    manifest = Manifest(out.stem, f"bench: the harbour ferry Tern, seed {seed}", ferry.start_ns, list(ferry.buses))
    manifest.dictionary = published_dictionary()
    create_recording(out, manifest)
    writer = Writer(out, journal=False)
    frames = 0
    try:
        for batch in stretches:
            writer.append(batch)
            frames += len(batch)
    finally:
        writer.close()
    return frames


def _capture(out: Path, ferry: Ferry, stretches: Iterator[FrameBatch]) -> int:
    """Write a capture, each bus with the link type of its kind; serial lines have none, and are left out."""
    writer = open_writer(out, "pcapng", Setting(ferry.buses, ferry.start_ns, {}, [], {}))
    frames = 0
    serial = [index for index, bus in enumerate(ferry.buses) if bus.medium == "serial"]
    for batch in stretches:
        batch = batch.take(np.flatnonzero(~np.isin(batch.bus, serial)))
        writer.write(batch, np.arange(frames, frames + len(batch)))
        frames += len(batch)
    writer.close()
    return frames


def _stretches(
    ferry: Ferry, seconds: float, events: list[tuple[float, str, str]], progress: Callable[[float], None]
) -> Iterator[FrameBatch]:
    while ferry.elapsed_s < seconds - 1e-9:
        while events and events[0][0] <= ferry.elapsed_s + 1e-9:
            _, name, value = events.pop(0)
            ferry.set(name, value)
        until = min(seconds, events[0][0] if events else seconds, ferry.elapsed_s + STRETCH_S)
        yield ferry.advance(max(until - ferry.elapsed_s, 0.02))
        progress(ferry.elapsed_s)
