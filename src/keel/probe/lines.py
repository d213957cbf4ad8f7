"""A line that was read: what it was read from, how, and what is to be told of it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from keel.lines.clocked import Wire
from keel.lines.code import Guess
from keel.lines.codes import EVERY
from keel.lines.together import CLOCKED
from keel.media.every import medium_of
from keel.model.frames import FrameBatch
from keel.model.waveform import Analog, Logic
from keel.probe.made import Formula

REPEATS = 10
"""So many messages that are all alike are worth a word."""


@dataclass(frozen=True, eq=False)
class Candidate:
    """A line that might say something: what it is called, its levels, the channels it is of and their roles.

    Attributes:
        formula, wave: How it is made of its channels, where it is the difference of two; and what that makes.
        wires: The wires of a line of several, one of which is the clock.
        other: Its levels if it is cut otherwise, where it rests between two.
    """

    name: str
    logic: Logic
    roles: Mapping[str, str]
    formula: Formula | None = None
    wave: Logic | Analog | None = None
    wires: tuple[Wire, ...] = ()
    other: Logic | None = None


@dataclass(eq=False)
class Line:
    """A line that was read: its bus's name, how, what else it might be, and what it was read from."""

    bus: str
    guess: Guess
    runner_up: Guess | None
    of: Candidate

    @property
    def over(self) -> dict[str, int]:
        """Of a line of several wires, over which channels its frames are shown, and the form of those; -1 for all."""
        shown = CLOCKED[self.guess.code].over if self.of.wires else {}
        found = {}
        for name, role in self.of.roles.items():
            if role in shown:
                form = shown[role]
                found[name] = -1 if form is None else form
        return found

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
                "frames": len(other.frames),
            },
            "said": list(guess.said),
        }


NEAR_USUAL, SAME_RATE = 0.05, 0.0005
"""A usual rate is named beside the measured one where it is so near; one that is as near as this is the same."""


def _rate_words(rate: float, usual: int, unit: str) -> str:
    """A rate as it was measured, and how far that is off the usual one."""
    off = rate / usual - 1
    if abs(off) < SAME_RATE or abs(off) > NEAR_USUAL:
        return f"{rate:,.0f} {unit}"
    return f"{rate:,.0f} {unit} ({usual:,} {off:+.2%})"


def told(line: Line) -> list[str]:
    """What was measured and chosen of a line, in sentences."""
    guess = line.guess
    good = len(guess.frames) - guess.faulty
    share = good / len(guess.frames) if len(guess.frames) else 0.0
    unit = medium_of(guess.bus).unit
    rates = _rate_words(guess.rate, guess.bus.bit_rate, unit)
    if guess.fast_rate:
        rates += f", data {_rate_words(guess.fast_rate, guess.bus.fast_bit_rate, unit)}"
    title, inverted = EVERY[guess.code].title, ", inverted" if guess.inverted else ""
    check = guess.check or "without a fault"
    count = len(guess.frames)
    quality = f", {share:.1%} {check}, explains {guess.explained:.0%}" if guess.evidence.foretold > 0 else ""
    said = [f"{title} at {rates}{_framing(guess)}{inverted}: {count:,} frames{quality}"]
    alike = _repeats(guess.frames)
    if alike:
        said.append(f"one and the same message {alike:,} times, whatever was done")
    if line.runner_up is not None:
        other = line.runner_up
        bad = other.faulty / max(len(other.frames), 1)
        rate = f"{other.rate:,.0f} {medium_of(other.bus).unit}"
        exchanged = ", inverted" if other.inverted and not guess.inverted else ""
        way = f"{EVERY[other.code].title} at {rate}{_framing(other)}{exchanged}"
        said.append(f"runner-up: {way}, {bad:.0%} faulty")
    return [*said, *guess.said]


def _framing(guess: Guess) -> str:
    """How bytes are framed, where that was found: ``, 8N1``."""
    bits, parity, stop = (guess.settings.get(name) for name in ("bits", "parity", "stop"))
    if bits is None or parity is None or stop is None:
        return ""
    return f", {bits}{str(parity)[0].upper()}{stop:g}"


def _repeats(frames: FrameBatch) -> int:
    """How many messages there are, where all of them are alike; else 0."""
    good = frames.take(np.flatnonzero(frames.faults == 0))
    sizes = np.diff(good.offsets)
    if len(good) < REPEATS or len(np.unique(good.keys())) != 1 or len(np.unique(sizes)) != 1:
        return 0
    whole = good.matrix(0, len(good), int(sizes[0]))
    return len(good) if (whole == whole[0]).all() else 0
