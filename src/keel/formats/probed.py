"""Waveforms read in line codes: what each channel is electrically, what is said on it, and a recording of that."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from keel.errors import InputError
from keel.lines.code import Asked, Guess
from keel.lines.codes import CODES, guesses, is_told
from keel.lines.levels import Levels, levels_of, logic_of
from keel.lines.pulses import BitTime, bit_time, idle_level
from keel.media.serial import HOST, TALKER
from keel.model.bus import bus_name
from keel.model.frames import Flag, FrameBatch, concat, replace_columns
from keel.model.waveform import Analog, Channel, Logic
from keel.store.manifest import Manifest
from keel.store.writer import Writer, create_recording

PAIR = -0.8
"""Two channels are the two wires of a pair where they go against each other so much."""
ROLES: Mapping[str, tuple[str, ...]] = {
    "can": ("line", "high", "low"),
    "canfd": ("line", "high", "low"),
    "uart": ("line", "host", "device"),
}


@dataclass(frozen=True, eq=False)
class Probed:
    """A channel as it is electrically: its levels (None of logic), and the logic it makes."""

    channel: Channel
    levels: Levels | None
    logic: Logic

    @property
    def edges(self) -> int:
        """How many edges it has, where its level is known."""
        return sum(len(part.edges) for part in self.logic.stretches())

    def to_json(self) -> dict[str, Any]:
        """As ``decode --json`` has a channel."""
        levels = self.levels
        has = levels is not None and levels.swing
        return {
            "channel": self.channel.name,
            "kind": "logic" if levels is None else "analog",
            "low": levels.low if levels is not None else None,
            "high": levels.high if levels is not None and has else None,
            "threshold": levels.threshold if levels is not None and has else None,
            "idle": idle_level(self.logic),
            "edges": self.edges,
            "said": self.said(),
        }

    def said(self) -> list[str]:
        """What is to be known of it, in sentences."""
        said = [*self.channel.notes, *(self.levels.said if self.levels is not None else ())]
        if not self.edges and (self.levels is None or self.levels.swing):
            level = "high" if self.logic.first else "low"
            said.append(f"no edges: it stays {level} all the time")
        if self.logic.unknown:
            spans = len(self.logic.unknown)
            said.append(f"its level is unknown in {spans} stretch{'es' if spans > 1 else ''}")
        return said


def probed(channel: Channel, threshold: float | None = None) -> Probed:
    """A channel's levels, and its logic."""
    wave = channel.wave
    if isinstance(wave, Logic):
        return Probed(channel, None, wave)
    levels = levels_of(wave, threshold)
    return Probed(channel, levels, logic_of(wave, levels))


@dataclass(eq=False)
class Line:
    """A line that was read: its bus's name, how, and what else it might be."""

    bus: str
    guess: Guess
    runner_up: Guess | None
    channels: tuple[str, ...]

    def to_json(self) -> dict[str, Any]:
        """As ``decode --json`` has a line."""
        guess, other = self.guess, self.runner_up
        return {
            "bus": self.bus,
            "code": guess.code,
            "rate": guess.rate,
            "fast_rate": guess.fast_rate,
            "inverted": guess.inverted,
            "settings": dict(guess.settings),
            "frames": len(guess.frames),
            "faulty": guess.faulty,
            "explained": round(guess.explained, 4),
            "runner_up": None
            if other is None
            else {
                "code": other.code,
                "rate": other.rate,
                "settings": dict(other.settings),
                "explained": round(other.explained, 4),
                "faulty": other.faulty,
            },
            "said": list(guess.said),
        }


@dataclass
class Decoded:
    """What was found in some files."""

    channels: list[Probed] = field(default_factory=list)
    lines: list[Line] = field(default_factory=list)
    said: dict[str, list[str]] = field(default_factory=dict)

    def to_json(self) -> dict[str, Any]:
        """As ``decode --json`` prints it."""
        channels = []
        for one in self.channels:
            row = one.to_json()
            row["said"] += self.said.get(one.channel.name, [])
            channels.append(row)
        return {"channels": channels, "lines": [line.to_json() for line in self.lines]}


@dataclass(frozen=True)
class Wanted:
    """What is to be read: a code, the channels it is in (none: each by itself), and their roles by name."""

    code: str = "auto"
    channels: tuple[str, ...] = ()
    roles: Mapping[str, str] = field(default_factory=dict)


def decode_channels(
    channels: Sequence[Channel], wanted: Sequence[Wanted], asked: Asked, threshold: float | None = None
) -> Decoded:
    """Read the lines that are in some channels.

    Raises:
        InputError: a channel or a role that was named is none.
    """
    done = Decoded([probed(channel, threshold) for channel in channels])
    for one in wanted:
        for name, lines in _lines_of(done.channels, one, threshold):
            found = guesses(lines, asked, one.code)
            chosen = is_told(found) or (one.code != "auto" and bool(found))
            if chosen:
                best, others = found[0], [g for g in found[1:] if g.score > 0]
                if _role(done.channels, one, name) == "host":
                    best = replace(best, frames=_from_host(best.frames))
                bus = _free_name(bus_name(name), [line.bus for line in done.lines])
                done.lines.append(Line(bus, best, others[0] if others else None, (name,)))
            else:
                done.said.setdefault(name.split(" − ")[0], []).append(_why_not(lines, found))
    return done


def _role(channels: Sequence[Probed], wanted: Wanted, name: str) -> str:
    return next((role for key, role in wanted.roles.items() if _named(channels, key).channel.name == name), "line")


def _from_host(frames: FrameBatch) -> FrameBatch:
    """Messages of the host: sent, and of a form of their own."""
    form = np.where(frames.form == TALKER.number, HOST.number, frames.form).astype(np.uint8)
    return replace_columns(frames, form=form, flags=frames.flags | np.uint16(Flag.TX))


def _free_name(name: str, taken: Sequence[str]) -> str:
    number, free = 1, name
    while free in taken:
        number += 1
        free = f"{name} {number}"
    return free


def _why_not(line: Logic, found: Sequence[Guess]) -> str:
    """Why a line is taken for nothing."""
    edges = sum(len(part.edges) for part in line.stretches())
    if not edges:
        return "nobody talks: there is no code to be told"
    if edges < 8:
        return f"cannot tell the code: {edges} edges are too few"
    if not found:
        return "cannot tell the code: none that is known makes sense of it"
    best = found[0]
    share = f"explains {best.explained:.0%} at best"
    return f"cannot tell the code: {CODES[best.code].title} at {best.rate:,.0f} bit/s {share}"


def _lines_of(channels: Sequence[Probed], wanted: Wanted, threshold: float | None) -> list[tuple[str, Logic]]:
    """The lines to read, by name: single channels, and differences of two wires."""
    chosen = [_named(channels, name) for name in wanted.channels] or list(channels)
    roles = {_named(channels, name).channel.name: role for name, role in wanted.roles.items()}
    if wanted.roles and not wanted.channels:
        chosen = [one for one in channels if one.channel.name in roles]
    for role in roles.values():
        known = ROLES.get(wanted.code, ("line",))
        if wanted.code != "auto" and role not in known:
            raise InputError("--channel", f"{role} is no role of {wanted.code}", ", ".join(known))
    high = next((one for one in chosen if roles.get(one.channel.name) == "high"), None)
    low = next((one for one in chosen if roles.get(one.channel.name) == "low"), None)
    if high is not None and low is not None:
        pair = _difference(high, low, threshold)
        rest = [one for one in chosen if one not in (high, low)]
        return [pair, *((one.channel.name, one.logic) for one in rest)]
    if wanted.code in ("auto", "can", "canfd"):
        return _paired(chosen, threshold)
    return [(one.channel.name, one.logic) for one in chosen]


def _named(channels: Sequence[Probed], name: str) -> Probed:
    for one in channels:
        if name in (one.channel.name, *one.channel.others) or (name.isdecimal() and int(name) == one.channel.number):
            return one
    there = ", ".join(one.channel.name for one in channels)
    raise InputError("--channel", f"no channel is called {name}", there)


def _paired(channels: Sequence[Probed], threshold: float | None) -> list[tuple[str, Logic]]:
    """Each channel by itself, but two wires that go against each other as one line."""
    left, found = list(channels), []
    while left:
        one = left.pop(0)
        other = next((two for two in left if _are_a_pair(one, two)), None)
        if other is None:
            found.append((one.channel.name, one.logic))
            continue
        left.remove(other)
        rises = idle_level(one.logic) == 0
        found.append(_difference(one, other, threshold) if rises else _difference(other, one, threshold))
    return found


def _are_a_pair(one: Probed, two: Probed) -> bool:
    a, b = one.channel.wave, two.channel.wave
    if not (isinstance(a, Analog) and isinstance(b, Analog)) or len(a.samples) != len(b.samples) or a.step != b.step:
        return False
    if one.levels is None or two.levels is None or not (one.levels.swing and two.levels.swing):
        return False
    step = max(len(a.samples) // 200_000, 1)
    together = np.corrcoef(a.samples[::step], b.samples[::step])[0, 1]
    return bool(together < PAIR)


def _difference(high: Probed, low: Probed, threshold: float | None) -> tuple[str, Logic]:
    a, b = high.channel.wave, low.channel.wave
    name = f"{high.channel.name} − {low.channel.name}"
    if isinstance(a, Analog) and isinstance(b, Analog) and len(a.samples) == len(b.samples):
        wave = Analog(a.start, a.step, a.samples - b.samples)
        return name, logic_of(wave, levels_of(wave, threshold))
    raise InputError(
        "--channel", f"{high.channel.name} and {low.channel.name} are not sampled alike", "two wires in volts"
    )


def record(done: Decoded, folder: Path, source: str) -> int:
    """Make a recording of the lines that were read; how many frames it has.

    Raises:
        RecordingError: there is something of that name already, or no room.
    """
    buses = [replace(line.guess.bus, name=line.bus) for line in done.lines]
    manifest = Manifest(folder.stem, source, time.time_ns(), buses=buses)
    manifest.is_dated = False
    manifest.notes = [f"{line.bus}: {sentence}" for line in done.lines for sentence in told(line)]
    create_recording(folder, manifest)
    parts = [
        replace_columns(line.guess.frames, bus=np.full(len(line.guess.frames), number, np.uint8))
        for number, line in enumerate(done.lines)
    ]
    whole = concat([part for part in parts if len(part)])
    whole = whole.take(np.argsort(whole.time, kind="stable"))
    writer = Writer(folder, journal=False)
    try:
        writer.append(whole)
    finally:
        writer.close()
    return len(whole)


def told(line: Line) -> list[str]:
    """What was measured and chosen of a line, in sentences."""
    guess = line.guess
    good = len(guess.frames) - guess.faulty
    share = good / len(guess.frames) if len(guess.frames) else 0.0
    rates = f"{guess.rate:,.0f} bit/s" + (f", data {guess.fast_rate:,.0f} bit/s" if guess.fast_rate else "")
    title, inverted = CODES[guess.code].title, ", inverted" if guess.inverted else ""
    check = "with a right CRC" if guess.proved else "without a fault"
    said = [
        f"{title} at {rates}{inverted}: {len(guess.frames)} frames, {share:.1%} {check}, explains {guess.explained:.0%}"
    ]
    if line.runner_up is not None:
        other = line.runner_up
        bad = other.faulty / max(len(other.frames), 1)
        said.append(f"runner-up: {CODES[other.code].title} at {other.rate:,.0f} bit/s, {bad:.0%} faulty")
    return [*said, *guess.said]


def measured(one: Probed) -> dict[str, Any]:
    """What ``measure`` says of a channel."""
    unit: BitTime | None = bit_time(one.logic)
    rate: float | None = unit.rate if unit is not None else None
    fast: float | None = None
    if unit is not None:
        found = [g for g in guesses(one.logic, Asked(), "canfd") if g.fast_rate]
        if found and found[0].score > 0.5:
            rate, fast = float(found[0].rate), found[0].fast_rate
            if unit.nearest_rate:
                rate *= unit.rate / unit.nearest_rate
    nearest = None
    if rate is not None:
        from keel.lines.pulses import nearest_rate

        nearest = nearest_rate(rate)
    return {
        **one.to_json(),
        "bit_time_ns": None if rate is None else 1e9 / rate,
        "rate": rate,
        "fast_rate": fast,
        "nearest_rate": nearest,
        "deviation": None if rate is None or nearest is None else rate / nearest - 1,
    }
