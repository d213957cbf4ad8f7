"""What is seen of waveforms through a lens: outlines of channels by cells, frames with their fields."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from keel.errors import KeelError
from keel.lines.bits import NOTHING, Close, bits_of_wire, bits_of_wires
from keel.lines.code import Field, How
from keel.lines.codes import CODES
from keel.lines.together import CLOCKED
from keel.media.every import ends_of, format_ident
from keel.model.faults import fault_words
from keel.model.frames import FrameBatch, Times
from keel.model.outline import Bounds, bounds_of, outline_of_levels, outline_of_volts
from keel.model.span import Span
from keel.model.waveform import Analog, Logic
from keel.probe.fields import Explainer
from keel.probe.lines import Line
from keel.probe.stored import wave_of, waveform_named
from keel.store.manifest import Manifest
from keel.store.recording import Snapshot
from keel.store.waveform_entries import WaveformEntry, line_of_channel

MOST_EXPLAINED = 60
"""Fields are found of so many frames at most."""


@dataclass(frozen=True, eq=False)
class Lane:
    """A channel over the lens, by columns of dots.

    Attributes:
        least, most: Volts; not a number where nothing was recorded. None of logic.
        counts, levels: Edges, and the level at a column's begin: 0, 1, or -1 where it is not known. None of volts.
        reach: The least and the most volts of all of the channel.
        trouble: Why it cannot be shown.
    """

    entry: WaveformEntry
    least: Any = None
    most: Any = None
    counts: Any = None
    levels: Any = None
    reach: tuple[float, float] = (0.0, 1.0)
    trouble: str = ""


@dataclass(frozen=True, eq=False)
class SeenFrame:
    """A frame in the lens."""

    number: int
    bus: int
    start: int
    end: int
    ident: str
    payload: bytes
    faults: str
    form: int
    fields: tuple[Field, ...] = ()
    close: Close = NOTHING


class Waves:
    """The waveforms of a recording as they are drawn; those that are made are made once."""

    def __init__(self) -> None:
        self._made: dict[str, tuple[Logic | Analog, Bounds | None]] = {}
        self._explained: tuple[object, Explainer] | None = None

    def of(self, snapshot: Snapshot, entry: WaveformEntry) -> tuple[Logic | Analog, Bounds | None]:
        """A channel's waveform, and its bounds.

        Raises:
            KeelError: it cannot be read or made.
        """
        if entry.kind != "made":
            stored = waveform_named(snapshot, entry.number)
            return stored.wave, stored.bounds
        if entry.formula not in self._made:
            wave = wave_of(snapshot, entry)
            self._made[entry.formula] = wave, bounds_of(wave.samples) if isinstance(wave, Analog) else None
        return self._made[entry.formula]

    def explain(self, snapshot: Snapshot) -> Explainer:
        """What says of which fields a frame is made."""
        made_of = (snapshot.manifest.generation, tuple(w.entry for w in snapshot.waveforms))
        if self._explained is None or self._explained[0] != made_of:
            self._explained = made_of, Explainer(snapshot)
        return self._explained[1]


def levels_of(snapshot: Snapshot, entry: WaveformEntry) -> Logic | None:
    """The levels of a channel: its own, or those that a line was read from."""
    line = line_of_channel(snapshot.manifest.waveforms, snapshot.manifest.lines, entry)
    number = entry.number if entry.kind == "logic" else None
    if line is not None and number is None:
        number = line.wires.get(entry.name, line.levels)
    wave = waveform_named(snapshot, number).wave if number is not None else None
    return wave if isinstance(wave, Logic) else None


def lane_of(waves: Waves, snapshot: Snapshot, entry: WaveformEntry, cells: Times) -> Lane:
    """A channel over some cells; ``cells`` are their edges in ns, shape (n + 1,)."""
    try:
        wave, bounds = waves.of(snapshot, entry)
    except KeelError as error:
        return Lane(entry, trouble=str(error))
    if isinstance(wave, Logic):
        counts, levels = outline_of_levels(wave, cells)
        return Lane(entry, counts=counts, levels=levels)
    least, most = outline_of_volts(wave, bounds, cells)
    low, high = bounds.finer[-1] if bounds is not None and bounds.finer else (wave.samples, wave.samples)
    ends = (float(low.min()) * wave.scale, float(high.max()) * wave.scale) if len(low) else (0.0, 1.0)
    return Lane(entry, least, most, reach=(min(ends), max(ends)))


def frames_seen(
    waves: Waves,
    snapshot: Snapshot,
    batch: FrameBatch,
    numbers: Sequence[int],
    lens: Span,
    least_ns: float,
    least_bit_ns: float = math.inf,
) -> tuple[SeenFrame, ...]:
    """Those of some frames that were read from a waveform and reach into the lens.

    Args:
        waves: What was looked at before.
        snapshot: The recording.
        batch: The frames.
        numbers: Their numbers.
        lens: What is looked at.
        least_ns: Fields are found of frames that last at least so long.
        least_bit_ns: Bits are found of lines whose bits last at least so long.
    """
    manifest = snapshot.manifest
    derived = {line.bus: 1e9 / line.rate for line in manifest.lines}
    explain = waves.explain(snapshot)
    seen, explained = [], 0
    ends = ends_of(batch, manifest.buses)
    for row, (number, bus, start, end) in enumerate(
        zip(numbers, batch.bus.tolist(), batch.time.tolist(), ends, strict=True)
    ):
        end = start if end is None else end
        if bus not in derived or end < lens.start:
            continue
        fields: Sequence[Field] = ()
        form = int(batch.form[row])
        if explained < MOST_EXPLAINED and end - start >= least_ns:
            fields, explained = explain.fields(bus, start, end, form) or (), explained + 1
        close = explain.close(bus, fields) if fields and derived[bus] >= least_bit_ns else NOTHING
        ident = format_ident(form, int(batch.ident[row]))
        faults = " ".join(fault_words(int(batch.faults[row])))
        payload = batch.payload(row)
        seen.append(SeenFrame(number, bus, start, end, ident, payload, faults, form, tuple(fields), close))
    return tuple(seen)


def frames_tried(line: Line, least_ns: float, least_bit_ns: float = math.inf) -> tuple[SeenFrame, ...]:
    """The frames of a line that is read on trial, numbered from 0; of no bus of the recording.

    Args:
        line: The line as it was read.
        least_ns: Fields are found of frames that last at least so long.
        least_bit_ns: Bits are found of lines whose bits last at least so long.
    """
    guess = line.guess
    frames, how = guess.frames, How(guess.how, guess.settings)
    levels = line.of.logic.inverted if guess.inverted else line.of.logic
    duration = frames.duration if frames.duration is not None else np.zeros(len(frames), np.int64)
    seen, explained = [], 0
    for row, (start, took) in enumerate(zip(frames.time.tolist(), duration.tolist(), strict=True)):
        form, end = int(frames.form[row]), start + took
        fields: Sequence[Field] = ()
        close = NOTHING
        if explained < MOST_EXPLAINED and took >= least_ns:
            explained += 1
            is_close = 1e9 / guess.rate >= least_bit_ns
            if line.of.wires:
                fields = CLOCKED[guess.code].explain(line.of.wires, how, start, end, form)
                close = bits_of_wires(line.of.wires, how, fields) if is_close else NOTHING
            else:
                fields = CODES[guess.code].explain(levels, how, start, end)
                close = bits_of_wire(guess.code, levels, how, fields) if is_close else NOTHING
        ident = format_ident(form, int(frames.ident[row]))
        faults = " ".join(fault_words(int(frames.faults[row])))
        payload = frames.payload(row)
        seen.append(SeenFrame(row, -1, start, end, ident, payload, faults, form, tuple(fields), close))
    return tuple(seen)


def longest(manifest: Manifest) -> int:
    """How long the longest frame takes that was read from a waveform, in ns."""
    return max((line.longest for line in manifest.lines), default=0)
