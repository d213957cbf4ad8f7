"""How close to failure a line is: widths of bits, edges against the sample point, levels, rise and fall, ringing."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from keel.lines.clocked import Wires, edges_to
from keel.lines.code import Field, How
from keel.lines.codes import CODES, EVERY
from keel.lines.pulses import window
from keel.lines.timing import Pulses, joined, taken
from keel.lines.together import CLOCKED
from keel.media.every import ends_of
from keel.model.faults import Fault
from keel.model.frames import FrameBatch, Rows, Times
from keel.model.waveform import Analog, Logic
from keel.probe.fields import Explainer
from keel.probe.shapes import MOST_EDGES, shapes_of
from keel.probe.stored import levels_read, wave_of, wires_read
from keel.store.recording import Snapshot
from keel.store.waveform_entries import LineEntry, WaveformEntry

MOST_FRAMES, WORST = 1_500, 100
"""Fields are found of so many frames, evenly from all, and of so many more whose pulses are farthest off."""
NO_BITS = int(Fault.ERROR_FLAG | Fault.OVERLOAD)
"""Faults of what is no frame."""
OF_SAMPLES, OF_EDGES = 1.5, 3.0
"""Times are limited by the samples where they differ by no more than so many intervals; edges where they take no more
than so many."""
SHORT, PER_CENT = 2.0, 100.0
"""Of all pulses so many per cent are short: within these an edge has to be over."""
Progress = Callable[[int, int], None]


@dataclass(frozen=True)
class Margin:
    """Something that is measured, and what is left of it.

    Attributes:
        bus: The bus.
        what, unit: What is measured, and in what.
        least, mean, most: Of all that was measured.
        nominal: What it should be; None where nothing says.
        margin: What is left before it fails, from 0 (nothing) to 1; None where that cannot be said.
        at: When the worst was, in ns.
        limited: Whether what was measured is no more than the interval of the samples makes of it.
    """

    bus: str
    what: str
    unit: str
    least: float
    mean: float
    most: float
    nominal: float | None
    margin: float | None
    at: int
    limited: bool = False

    def to_json(self) -> dict[str, Any]:
        """As ``keel margins --json`` has it."""
        return {
            "bus": self.bus, "what": self.what, "unit": self.unit, "min": self.least, "mean": self.mean,
            "max": self.most, "nominal": self.nominal, "margin": self.margin, "at": self.at, "limited": self.limited,
        }  # fmt: skip


@dataclass(frozen=True)
class Margins:
    """The margins of some lines, nearest to failure first; and what is to be known, in sentences."""

    rows: tuple[Margin, ...]
    said: tuple[str, ...]


@dataclass(frozen=True, eq=False)
class Probe:
    """A wire of a line: its name (empty: it is the only one), its levels, and its volts if it has any."""

    name: str
    logic: Logic
    wave: Analog | None
    entry: WaveformEntry | None


def margins_of(snapshot: Snapshot, frames: FrameBatch, progress: Progress = lambda *_: None) -> Margins:
    """The margins of the lines that some frames were read from.

    Args:
        snapshot: The recording.
        frames: Which frames are looked at; of those of other buses nothing is measured.
        progress: Told how much of how much is done; what it raises gives it up.
    """
    rows: list[Margin] = []
    said: list[str] = []
    explainer = Explainer(snapshot)
    lines = [line for line in snapshot.manifest.lines if (frames.bus == line.bus).any() and line.code in EVERY]
    for number, line in enumerate(lines):
        mine = np.flatnonzero(frames.bus == line.bus)
        # What others made of a frame has no bits; frames with a fault have, and are those that one wants to know of.
        mine = mine[(frames.faults[mine] & np.uint64(NO_BITS)) == 0]
        name = snapshot.manifest.buses[line.bus].name
        if faulty := int((~frames.is_sound(mine)).sum()):
            said.append(f"{name}: {faulty:,} frames with a fault are measured, too")
        if not len(mine):
            continue
        of = frames.take(mine)

        def tell(part: float, number: int = number) -> None:
            progress(round(100 * (number + part)), 100 * len(lines))

        rows += _margins(snapshot, line, of, explainer, said, tell)
    progress(1, 1)
    return Margins(tuple(sorted(rows, key=lambda row: (row.margin is None, row.margin or 0.0))), tuple(said))


def _margins(
    snapshot: Snapshot,
    line: LineEntry,
    frames: FrameBatch,
    explainer: Explainer,
    said: list[str],
    tell: Callable[[float], None],
) -> list[Margin]:
    bus = snapshot.manifest.buses[line.bus].name
    starts, ends = frames.time, _ends(snapshot, frames)
    rows: list[Margin] = []
    if line.wires:
        wires = wires_read(snapshot, line)
        probes = [_wire(snapshot, one.name, one.logic) for one in wires]
        rows += _clocked(bus, wires, line, starts, ends)
    else:
        probes = [_only(snapshot, line)]
        timed = _timed(bus, line, probes[0].logic, frames, ends, explainer, said, tell)
        interval = probes[0].wave.step if probes[0].wave is not None else 0.0
        rows += [_limited(row, interval) for row in timed]
    for place, probe in enumerate(probes):
        tell(0.6 + 0.4 * place / len(probes))
        if probe.wave is not None:
            which = np.flatnonzero(_inside(probe.logic.edges, starts, ends))
            if len(which) > MOST_EDGES:
                name = f" of {probe.name}" if probe.name else ""
                said.append(f"{bus}: {MOST_EDGES:,} of {len(which):,} edges{name} were measured in volts, evenly")
            rows += _volts(bus, probe, probe.wave, line, which, lambda: tell(0.6))
    if all(probe.wave is None for probe in probes):
        said.append(f"{bus}: recorded as levels: there are no volts to measure")
    return rows


def _ends(snapshot: Snapshot, frames: FrameBatch) -> Times:
    ends = ends_of(frames, snapshot.manifest.buses)
    return np.array([time if end is None else end for time, end in zip(frames.time.tolist(), ends, strict=True)])


def _only(snapshot: Snapshot, line: LineEntry) -> Probe:
    """The one wire of a line, or the difference of two."""
    channels = [one for one in snapshot.manifest.waveforms if one.is_channel]
    name = next(one.name for one in snapshot.manifest.waveforms if one.number == line.levels)
    entry = next((one for one in channels if one.name == name), None)
    wave = wave_of(snapshot, entry) if entry is not None else None
    return Probe("", levels_read(snapshot, line), wave if isinstance(wave, Analog) else None, entry)


def _wire(snapshot: Snapshot, name: str, logic: Logic) -> Probe:
    entry = next(one for one in snapshot.manifest.waveforms if one.is_channel and one.name == name)
    wave = wave_of(snapshot, entry)
    return Probe(name, logic, wave if isinstance(wave, Analog) else None, entry)


# Time.


def _timed(
    bus: str,
    line: LineEntry,
    logic: Logic,
    frames: FrameBatch,
    ends: Times,
    explainer: Explainer,
    said: list[str],
    tell: Callable[[float], None],
) -> list[Margin]:
    """Widths of bits by kind of field, edges against the sample point."""
    time = CODES[line.code].time
    if time is None:
        return []
    chosen = _chosen(line, logic, frames.time, ends)
    if len(chosen) < len(frames):
        said.append(f"{bus}: bits of {len(chosen):,} of {len(frames):,} frames were measured, evenly and the worst")
    how, found, kinds = _as_meant(line), [], []
    for number, row in enumerate(chosen.tolist()):
        if number % 64 == 0:
            tell(0.6 * number / len(chosen))
        start, end = int(frames.time[row]), int(ends[row])
        fields = explainer.fields(line.bus, start, end, int(frames.form[row]))
        if not fields:
            continue
        part = time(window(logic, start - 1, end + 2), how, fields)
        found.append(part)
        kinds += _kinds(part, fields)
    pulses = joined(found)
    if pulses is None or not len(pulses):
        return []
    # Where the rate changes within frames, fields at either are of their own.
    units = pulses.unit / float(np.median(pulses.unit))
    fast = units < 0.9 * units.max() if line.fast_rate else np.zeros(len(pulses), np.bool_)
    names = np.array([f"{kind} (fast)" if one else kind for kind, one in zip(kinds, fast, strict=True)])
    rows = []
    left = pulses.left
    for kind in dict.fromkeys(names.tolist()):
        mine = taken(pulses, names == kind)
        width = (mine.ends - mine.begins) / mine.bits
        off = mine.ends - mine.begins - mine.bits * mine.unit
        margin = 1 - np.where(off >= 0, off / mine.late, -off / mine.early)
        nominal = float(np.median(mine.unit))
        rows.append(_row(bus, f"bit width, {kind}", "ns", width, mine.begins, margin, nominal))
    # A threshold off the middle, or slow edges, make one level longer at the cost of the other.
    levels = _levels(logic, pulses)
    for level, name in LEVELS_OF.get(line.code, LEVELS_OF[""]):
        mine = taken(pulses, levels == level)
        if len(mine):
            off = mine.ends - mine.begins - mine.bits * mine.unit
            margin = 1 - np.where(off >= 0, off / mine.late, -off / mine.early)
            share = (mine.ends - mine.begins) / (mine.bits * mine.unit) * PER_CENT
            rows.append(_row(bus, f"bits, {name}", "%", share, mine.begins, margin, PER_CENT))
    rows.append(_row(bus, "sample point", "%", left * PER_CENT, pulses.ends, left, PER_CENT))
    usual = float(np.median(pulses.off))
    jitter = np.abs(pulses.off - usual)
    limit = np.minimum(pulses.early, pulses.late)
    rows.append(_row(bus, "jitter", "ns", jitter, pulses.ends, 1 - jitter / limit, 0.0))
    return rows


CAN_LEVELS = ((0, "dominant"), (1, "recessive"))
LEVELS_OF = {"can": CAN_LEVELS, "canfd": CAN_LEVELS, "lin": CAN_LEVELS, "": ((0, "low"), (1, "high"))}
"""What the levels of a line are called, as it is read."""


def _levels(logic: Logic, pulses: Pulses) -> Any:
    """The level of each pulse, as the line is read."""
    place = np.searchsorted(logic.edges, pulses.begins, side="right")
    return (logic.first ^ place) & 1


def _limited(row: Margin, interval: float) -> Margin:
    """A row of times, marked where what it says is no more than the interval of the samples makes of it."""
    if row.unit != "ns" or not interval:
        return row
    middle = row.mean if row.nominal is None else row.nominal
    farthest = max(abs(row.most - middle), abs(row.least - middle))
    return replace(row, limited=farthest <= OF_SAMPLES * interval)


def _as_meant(line: LineEntry) -> How:
    """How a line is read at the rate that it is called, as who listens to it does: its own clock may be off."""
    meant = {"slow": line.rate, "rate": line.rate, "fast": line.fast_rate or 0.0, "half": 5e8 / max(line.rate, 1.0)}
    return How({name: meant.get(name, value) for name, value in line.how.items()}, line.settings)


def _chosen(line: LineEntry, logic: Logic, starts: Times, ends: Times) -> Any:
    """Which frames are looked at closely: some, evenly, and those with the pulses that are farthest off."""
    if len(starts) <= MOST_FRAMES + WORST:
        return np.arange(len(starts))
    even = np.linspace(0, len(starts) - 1, MOST_FRAMES).astype(np.int64)
    unit = _shortest_bit(line)
    if not unit:
        return even
    begins, stops = logic.edges[:-1], logic.edges[1:]
    widths = (stops - begins) / unit
    off = np.where(widths < 16, np.abs(widths - np.rint(widths)), 0.0)
    place = np.searchsorted(starts, begins, side="right") - 1
    inside = (place >= 0) & (stops <= ends[np.maximum(place, 0)])
    worst = np.zeros(len(starts))
    np.maximum.at(worst, place[inside], off[inside])
    return np.unique(np.concatenate([even, np.argsort(worst)[-WORST:]]))


def _shortest_bit(line: LineEntry) -> float:
    rate = line.how.get("fast") or line.how.get("slow") or line.how.get("rate")
    return 1e9 / rate if rate else line.how.get("half", 0.0)


def _kinds(pulses: Pulses, fields: Sequence[Field]) -> list[str]:
    """The field that each pulse begins in."""
    begins = np.array([field.start for field in fields])
    place = np.maximum(np.searchsorted(begins, pulses.begins, side="right") - 1, 0)
    return [fields[k].name for k in place.tolist()]


def _clocked(bus: str, wires: Wires, line: LineEntry, starts: Times, ends: Times) -> list[Margin]:
    """How long data is there before it is taken, and stays behind that; how even the clock is."""
    clock = next(one.logic for one in wires if one.role == "clock")
    level = CLOCKED[line.code].taken_by(How(line.how, line.settings))
    when = edges_to(clock, level)
    when = when[_inside(when, starts, ends)]
    rows: list[Margin] = []
    if len(when) < 3:
        return rows
    # Half a period as it is thereabouts: between two words there may be a longer one, and the clock may change.
    each = np.diff(when).astype(np.float64)
    around = np.concatenate([each[:1], each, each[-1:]])
    usual_half = np.minimum(np.minimum(around[:-2], each), around[2:]) / 2
    for one in wires:
        if one.role in ("clock", "select"):
            continue
        edges = one.logic.edges[_inside(one.logic.edges, starts, ends)]
        # Beginnings and ends of a transfer, while the clock rests, are none of these.
        place = np.searchsorted(when, edges, side="left")
        between = (place > 0) & (place < len(when))
        edges, place = edges[between], place[between]
        before, behind = edges - when[place - 1], when[place] - edges
        period = (before + behind).astype(np.float64)
        usual = float(np.median(period)) if len(period) else 0.0
        near = period < 1.5 * usual
        for what, values in (("setup", behind), ("hold", before)):
            if near.any():
                half = usual_half[place - 1][near]
                nominal = float(np.median(half))
                left = np.clip(values[near] / half, 0, 1)
                rows.append(_row(bus, f"{what}, {one.name}", "ns", values[near], edges[near], left, nominal))
    usual = float(np.median(each))
    near = each < 1.5 * usual
    rows.append(_row(bus, "clock period", "ns", each[near], when[:-1][near], None, usual))
    return rows


def _inside(times: Times, starts: Times, ends: Times) -> Any:
    """Which times lie in some spans."""
    begun = np.searchsorted(np.sort(starts), times, side="right")
    ended = np.searchsorted(np.sort(ends), times, side="left")
    return begun > ended


# Volts.


def _volts(
    bus: str, probe: Probe, wave: Analog, line: LineEntry, which: Rows, tell: Callable[[], None]
) -> list[Margin]:
    entry, logic = probe.entry, probe.logic
    assert entry is not None
    known = entry.measured
    if not {"low", "high", "threshold"} <= set(known):
        return []
    low, high, cut = known["low"], known["high"], known["threshold"]
    if not len(which) or high <= low:
        return []
    # As the volts go: what the line was read from may have its levels exchanged.
    levels = logic.inverted if line.inverted and not line.wires else logic
    shapes = shapes_of(wave, levels, which, low, high, tell)
    shortest = float(np.percentile(np.diff(logic.edges[which]), SHORT)) if len(which) > 1 else 0.0
    tail = f", {probe.name}" if probe.name else ""
    swing = high - low
    up, up_share = shapes.rises, (cut - low) / swing
    rows = []
    for name, mine, level, share in (("high", up, high, 1 - up_share), ("low", ~up, low, up_share)):
        rest = shapes.rest[mine]
        left = (rest - cut) / (high - cut) if name == "high" else (cut - rest) / (cut - low)
        rows.append(_row(bus, f"level {name}{tail}", "V", rest, shapes.times[mine], left, level))
        took = shapes.took[mine]
        edge = "rise time" if name == "high" else "fall time"
        took_row = _row(
            bus, f"{edge}{tail}", "ns", took, shapes.times[mine], 1 - took / shortest if shortest else None, None
        )
        rows.append(replace(took_row, limited=took_row.mean <= OF_EDGES * wave.step))
        beyond = shapes.beyond[mine] * PER_CENT
        rows.append(_row(bus, f"overshoot {name}{tail}", "%", beyond, shapes.times[mine], None, 0.0))
        back = shapes.back[mine]
        rows.append(_row(bus, f"ringing {name}{tail}", "%", back * PER_CENT, shapes.times[mine],
                         1 - back / max(share, 1e-9), 0.0))  # fmt: skip
    return [row for row in rows if np.isfinite(row.mean)]


def _row(bus: str, what: str, unit: str, values: Any, times: Times, left: Any | None, nominal: float | None) -> Margin:
    """A row of what was measured; ``left`` is what each leaves of its margin."""
    known = np.isfinite(values)
    values, times = np.asarray(values, np.float64)[known], np.asarray(times)[known]
    if not len(values):
        return Margin(bus, what, unit, np.nan, np.nan, np.nan, nominal, None, 0)
    if left is None:
        at = int(np.argmax(np.abs(values - (nominal if nominal is not None else float(values.mean())))))
        margin = None
    else:
        left = np.asarray(left, np.float64)[known]
        at = int(np.argmin(left))
        margin = float(np.clip(left[at], 0.0, 1.0))
    three = (float(values.min()), float(values.mean()), float(values.max()))
    return Margin(bus, what, unit, *three, nominal, margin, int(times[at]))
