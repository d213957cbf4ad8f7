"""Waveforms read in line codes: which lines there are in some channels, and what is said on each."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from keel.errors import InputError
from keel.lines.code import Asked, Guess
from keel.lines.codes import CODES, guesses, is_told
from keel.lines.levels import levels_of, logic_of
from keel.lines.pulses import idle_level
from keel.media.every import medium_of
from keel.model.bus import bus_name
from keel.model.waveform import Analog, Logic
from keel.probe.channels import Probed, named
from keel.probe.conversations import converse
from keel.probe.lines import Candidate, Line
from keel.probe.made import Formula, made

PAIR = -0.8
"""Two channels are the two wires of a pair where they go against each other so much."""
FEWEST_EDGES, APART = 8, 0.2
"""Two wires of a pair change together: so many edges, apart by such a share of the shortest pulse at most."""


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
                bus = free_name(bus_name(line.name), [line.bus for line in done.lines])
                done.lines.append(Line(bus, best, others[0] if others else None, line))
            else:
                for name in line.roles:
                    done.said.setdefault(name, []).append(_why_not(line.logic, found))
    converse(done.lines)
    return done


def free_name(name: str, taken: Collection[str]) -> str:
    """The name, with a number if there is one like it already."""
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
    return f"cannot tell the code: {CODES[best.code].title} at {best.rate:,.0f} {medium_of(best.bus).unit} {share}"


def _candidates(channels: Sequence[Probed], wanted: Wanted, threshold: float | None) -> list[Candidate]:
    """The lines to read: single channels, and differences of two wires."""
    chosen = [named(channels, name) for name in wanted.channels] or list(channels)
    roles = {named(channels, name).channel.name: role for name, role in wanted.roles.items()}
    if wanted.roles and not wanted.channels:
        chosen = [one for one in channels if one.channel.name in roles]
    for role in roles.values():
        if wanted.code != "auto" and role not in CODES[wanted.code].roles:
            raise InputError("--channel", f"{role} is no role of {wanted.code}", ", ".join(CODES[wanted.code].roles))
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
    if isinstance(a, Logic) and isinstance(b, Logic):
        return _are_opposite(a, b)
    if not (isinstance(a, Analog) and isinstance(b, Analog)) or len(a.samples) != len(b.samples) or a.step != b.step:
        return False
    if one.levels is None or two.levels is None or not (one.levels.swing and two.levels.swing):
        return False
    step = max(len(a.samples) // 200_000, 1)
    together = np.corrcoef(a.samples[::step], b.samples[::step])[0, 1]
    return bool(together < PAIR)


def _are_opposite(a: Logic, b: Logic) -> bool:
    """Whether two lines change at the same moments, one up where the other goes down."""
    if a.first == b.first or len(a.edges) != len(b.edges) or len(a.edges) < FEWEST_EDGES:
        return False
    shortest = int(np.diff(a.edges).min())
    return bool((np.abs(a.edges - b.edges) <= max(APART * shortest, 2)).all())


def _pair(high: Probed, low: Probed, threshold: float | None) -> Candidate:
    """The line between two wires."""
    a, b = high.channel.name, low.channel.name
    if isinstance(high.channel.wave, Logic) and isinstance(low.channel.wave, Logic):
        # Levels say the same on both wires: the lower one is high where the line rests.
        return Candidate(f"{a} − {b}", low.logic, {a: "high", b: "low"})
    formula = Formula("difference", (a, b))
    wave = made(formula, {a: high.channel.wave, b: low.channel.wave})
    assert isinstance(wave, Analog)
    return Candidate(f"{a} − {b}", logic_of(wave, levels_of(wave, threshold)), {a: "high", b: "low"}, formula, wave)
