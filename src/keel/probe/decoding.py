"""Waveforms read in line codes: which lines there are in some channels, and what is said on each."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from keel.errors import InputError
from keel.lines.code import Asked, Guess
from keel.lines.codes import CODES, guesses, is_told
from keel.lines.levels import levels_of, logic_of
from keel.lines.pulses import idle_level
from keel.media.serial import HOST, TALKER
from keel.model.bus import bus_name
from keel.model.frames import Flag, FrameBatch, replace_columns
from keel.model.waveform import Analog, Logic
from keel.probe.channels import Probed, named
from keel.probe.made import Formula, made

PAIR = -0.8
"""Two channels are the two wires of a pair where they go against each other so much."""
ROLES: Mapping[str, tuple[str, ...]] = {
    "can": ("line", "high", "low"),
    "canfd": ("line", "high", "low"),
    "uart": ("line", "host", "device"),
}
REPEATS = 10
"""So many messages that are all alike are worth a word."""


@dataclass(frozen=True, eq=False)
class Candidate:
    """A line that might say something: what it is called, its levels, the channels it is of and their roles.

    Attributes:
        formula, wave: How it is made of its channels, where it is of several; and what that makes.
    """

    name: str
    logic: Logic
    roles: Mapping[str, str]
    formula: Formula | None = None
    wave: Logic | Analog | None = None


@dataclass(eq=False)
class Line:
    """A line that was read: its bus's name, how, what else it might be, and what it was read from."""

    bus: str
    guess: Guess
    runner_up: Guess | None
    of: Candidate

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
    channels: Sequence[Probed], wanted: Sequence[Wanted], asked: Asked, threshold: float | None = None
) -> Decoded:
    """Read the lines that are in some channels.

    Args:
        channels: What was probed.
        wanted: The codes to read, and in which channels.
        asked: What a person said of the lines.
        threshold: Where low and high part, in volts; None to find it.

    Raises:
        InputError: a channel or a role that was named is none.
    """
    done = Decoded(list(channels))
    for one in wanted:
        for line in _candidates(done.channels, one, threshold):
            found = guesses(line.logic, asked, one.code)
            if is_told(found) or (one.code != "auto" and found):
                best, others = found[0], [g for g in found[1:] if g.score > 0]
                if "host" in line.roles.values():
                    best = replace(best, frames=_from_host(best.frames))
                bus = _free_name(bus_name(line.name), [line.bus for line in done.lines])
                done.lines.append(Line(bus, best, others[0] if others else None, line))
            else:
                for name in line.roles:
                    done.said.setdefault(name, []).append(_why_not(line.logic, found))
    return done


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


def _candidates(channels: Sequence[Probed], wanted: Wanted, threshold: float | None) -> list[Candidate]:
    """The lines to read: single channels, and differences of two wires."""
    chosen = [named(channels, name) for name in wanted.channels] or list(channels)
    roles = {named(channels, name).channel.name: role for name, role in wanted.roles.items()}
    if wanted.roles and not wanted.channels:
        chosen = [one for one in channels if one.channel.name in roles]
    for role in roles.values():
        known = ROLES.get(wanted.code, ("line",))
        if wanted.code != "auto" and role not in known:
            raise InputError("--channel", f"{role} is no role of {wanted.code}", ", ".join(known))
    high = next((one for one in chosen if roles.get(one.channel.name) == "high"), None)
    low = next((one for one in chosen if roles.get(one.channel.name) == "low"), None)
    if high is not None and low is not None:
        rest = [_single(one, roles) for one in chosen if one not in (high, low)]
        return [_pair(high, low, threshold), *rest]
    if wanted.code in ("auto", "can", "canfd"):
        return _paired(chosen, roles, threshold)
    return [_single(one, roles) for one in chosen]


def _single(one: Probed, roles: Mapping[str, str]) -> Candidate:
    name = one.channel.name
    return Candidate(name, one.logic, {name: roles.get(name, "line")})


def _paired(chosen: Sequence[Probed], roles: Mapping[str, str], threshold: float | None) -> list[Candidate]:
    """Each channel by itself, but two wires that go against each other as one line."""
    left, found = list(chosen), []
    while left:
        one = left.pop(0)
        other = next((two for two in left if _are_a_pair(one, two)), None)
        if other is None:
            found.append(_single(one, roles))
            continue
        left.remove(other)
        rises = idle_level(one.logic) == 0
        found.append(_pair(one, other, threshold) if rises else _pair(other, one, threshold))
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


def _pair(high: Probed, low: Probed, threshold: float | None) -> Candidate:
    """The line between two wires."""
    a, b = high.channel.name, low.channel.name
    formula = Formula("difference", (a, b))
    wave = made(formula, {a: high.channel.wave, b: low.channel.wave})
    assert isinstance(wave, Analog)
    return Candidate(f"{a} − {b}", logic_of(wave, levels_of(wave, threshold)), {a: "high", b: "low"}, formula, wave)


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
    alike = _repeats(guess.frames)
    if alike:
        said.append(f"one and the same message, {alike:,} times: nothing changes it")
    if line.runner_up is not None:
        other = line.runner_up
        bad = other.faulty / max(len(other.frames), 1)
        said.append(f"runner-up: {CODES[other.code].title} at {other.rate:,.0f} bit/s, {bad:.0%} faulty")
    return [*said, *guess.said]


def _repeats(frames: FrameBatch) -> int:
    """How many messages there are, where all of them are alike; else 0."""
    good = frames.take(np.flatnonzero(frames.faults == 0))
    sizes = np.diff(good.offsets)
    if len(good) < REPEATS or len(np.unique(good.keys())) != 1 or len(np.unique(sizes)) != 1:
        return 0
    whole = good.matrix(0, len(good), int(sizes[0]))
    return len(good) if (whole == whole[0]).all() else 0
