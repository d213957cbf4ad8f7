"""Waveforms read in line codes: which lines there are in some channels, and what is said on each."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from keel.errors import InputError
from keel.lines.code import Asked, Guess
from keel.lines.codes import EVERY, guesses, is_told
from keel.lines.evidence import LEAST_EXPLAINED, NOTHING
from keel.lines.together import CLOCKED, read_together
from keel.media.every import medium_of
from keel.model.bus import bus_name
from keel.model.faults import Fault
from keel.model.prints import prints_of
from keel.model.waveform import Logic
from keel.probe.advice import is_read_in_part, to_try
from keel.probe.candidates import Wanted, candidates
from keel.probe.channels import Probed
from keel.probe.conversations import converse
from keel.probe.lines import Candidate, Line


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


def decode_channels(channels: Sequence[Probed], wanted: Sequence[Wanted], asked: Asked) -> Decoded:
    """Read the lines that are in some channels.

    Args:
        channels: What was probed.
        wanted: The codes to read, and in which channels.
        asked: What a person said of the lines.

    Raises:
        InputError: a channel or a role that was named is none, or a setting that no such code takes.
    """
    _check_settings(wanted, asked)
    done = Decoded(list(channels))
    known = {one.channel.name: one for one in channels}
    named = _named(wanted, asked)
    for one in wanted:
        aside: dict[str, str] = {}
        for code, line in candidates(done.channels, one, asked, aside):
            found = _ways(line, asked, code)
            if line.other is not None:
                found, line = _better_cut(found, line, asked, code)
            if is_told(found) or (one.code != "auto" and found):
                best, others = _with_more(found[0], line, known, named), [g for g in found[1:] if len(g.frames)]
                bus = free_name(bus_name(line.name), [line.bus for line in done.lines])
                done.lines.append(Line(bus, best, others[0] if others else None, line))
            else:
                said = [_why_not(line.logic, found), to_try(line, None, known, named)]
                for name in line.roles:
                    done.said.setdefault(name, []).extend(sentence for sentence in said if sentence)
        if one.code == "auto":
            aside |= _echoes(done.lines)
        for name, why in aside.items():
            done.said.setdefault(name, []).append(why)
    converse(done.lines)
    return done


def _ways(line: Candidate, asked: Asked, code: str) -> list[Guess]:
    """The ways to read a line, the best first.

    A rate that a person named with a tolerance gives way to the measured one, where that is no farther off.
    """
    if asked.rate is not None and asked.tolerance is not None:
        free = _ways(line, replace(asked, rate=None, fast_rate=None), code)
        if free and abs(free[0].rate / asked.rate - 1) <= asked.tolerance:
            return free
    return read_together(CLOCKED[code], line.wires, asked) if line.wires else guesses(line.logic, asked, code)


def _named(wanted: Sequence[Wanted], asked: Asked) -> frozenset[str]:
    """What a person said of lines, by name."""
    said = {
        "rate": asked.rate is not None,
        "polarity": asked.inverted is not None,
        "threshold": asked.threshold is not None,
        "channels": any(one.roles for one in wanted),
    }
    return frozenset(name for name, is_said in said.items() if is_said)


def _with_more(guess: Guess, line: Candidate, known: dict[str, Probed], named: frozenset[str]) -> Guess:
    """What was read of a line, with what is to be said of what was not."""
    guess = _with_ends(guess, line)
    if len(guess.frames) and not guess.is_told and guess.evidence is not NOTHING:
        # Only who names a code gets so far.
        guess = replace(guess, said=(*guess.said, "chance gives as much: nothing here could have failed"))
    advice = to_try(line, guess, known, named) if is_read_in_part(guess) else ""
    return replace(guess, said=(*guess.said, advice)) if advice else guess


def _with_ends(guess: Guess, line: Candidate) -> Guess:
    """What was read of a line; said where the recording begins or ends within a frame, so that this one is missing."""
    frames = guess.frames
    if not len(frames) or frames.duration is None or line.wires:
        return guess
    edges, ends = line.logic.edges, frames.time + frames.duration
    before = int(np.searchsorted(edges, frames.time[0], side="left"))
    after = len(edges) - int(np.searchsorted(edges, ends.max(), side="right"))
    said = []
    if before >= A_PIECE:
        said.append(f"begins within a frame: {before:,} edges before the first one are of none that is whole")
    if after >= A_PIECE:
        said.append(f"ends within a frame: {after:,} edges behind the last one are of none that is whole")
    return replace(guess, said=(*guess.said, *said))


A_PIECE = 2
"""Fewer edges are a disturbance rather than a piece of a frame."""


def _better_cut(found: list[Guess], line: Candidate, asked: Asked, code: str) -> tuple[list[Guess], Candidate]:
    """A line that rests between two levels, as it is read with its rest below the threshold or above: the better."""
    assert line.other is not None
    others = guesses(line.other, asked, code)
    if not others or (found and found[0].evidence.bits >= others[0].evidence.bits):
        return found, line
    return others, replace(line, logic=line.other)


def _echoes(lines: list[Line]) -> dict[str, str]:
    """Take out lines that say nothing but what another one says at the same time, as what drives a bus does.

    Returns:
        Their channels, and why.
    """
    aside: dict[str, str] = {}
    fullest = sorted(lines, key=lambda line: -len(line.guess.frames))
    for place, line in enumerate(fullest):
        others = [other for other in fullest[:place] if other in lines and other.guess.code == line.guess.code]
        echoed = next((other for other in others if _is_echo(line, other)), None)
        if echoed is not None and not line.of.wires:
            lines.remove(line)
            aside |= dict.fromkeys(line.of.roles, f"says the same as {echoed.bus}, at the same time: it is read once")
    return aside


def _is_echo(line: Line, other: Line) -> bool:
    """Whether a line is another one once more: the same edges under another name, or what a node itself sends, which
    nobody acknowledges. The same frames before and after something are two lines."""
    mine, theirs = line.of.logic.edges, other.of.logic.edges
    if len(mine) == len(theirs) and (mine == theirs).all():
        return True
    drives = (line.guess.frames.faults & np.uint32(Fault.ACK) != 0).mean() > MOSTLY
    answered = (other.guess.frames.faults & np.uint32(Fault.ACK) == 0).mean() > MOSTLY
    return bool(drives and answered and _says_the_same(line.guess, other.guess))


SAME_TIME, MOSTLY = 1.0, 0.9
"""In bits: frames that begin within that of each other begin at the same time. And such a share is nearly all."""


def _says_the_same(one: Guess, other: Guess) -> bool:
    """Whether all good frames of a line are frames of another one at the same time."""
    mine = one.frames.take(np.flatnonzero(one.frames.is_good(slice(None))))
    theirs = other.frames
    if not len(mine) or not len(theirs):
        return False
    place = np.clip(np.searchsorted(theirs.time, mine.time), 1, max(len(theirs) - 1, 1)) if len(theirs) > 1 else 0
    before = np.maximum(place - 1, 0) if len(theirs) > 1 else 0
    nearer = np.where(
        np.abs(theirs.time[before] - mine.time) < np.abs(theirs.time[place] - mine.time), before, place
    )  # fmt: skip
    near = np.abs(theirs.time[nearer] - mine.time) <= SAME_TIME * 1e9 / other.rate
    return bool((near & (prints_of(theirs)[nearer] == prints_of(mine))).all())


def _check_settings(wanted: Sequence[Wanted], asked: Asked) -> None:
    """What was said has to mean something to a code that is tried."""
    codes = [EVERY[word] for one in wanted for word in (EVERY if one.code == "auto" else (one.code,))]
    taken = sorted({name for code in codes for name in code.takes})
    for name in asked.settings:
        if name not in taken:
            of = " or ".join(code.word for code in codes) if len(codes) < len(EVERY) else "any code"
            raise InputError("--set", f"{name} is no setting of {of}", ", ".join(taken) or "none")
    if asked.inverted is not None and all(code.word in CLOCKED for code in codes):
        raise InputError("--invert", "says nothing of lines that go by a clock", "a line of one wire")


def free_name(name: str, taken: Collection[str]) -> str:
    """The name, with a number if there is one like it already."""
    number, free = 1, name
    while free in taken:
        number += 1
        free = f"{name} {number}"
    return free


AS_IT_IS = "; --as bursts reads its messages as they are"


def _why_not(line: Logic, found: Sequence[Guess]) -> str:
    """Why a line is taken for nothing."""
    edges = sum(len(part.edges) for part in line.stretches())
    if not edges:
        return "nobody talks: there is no code to be told"
    if edges < 8:
        return f"cannot tell the code: {edges} edges are too few"
    if not found:
        return f"cannot tell the code: none that is known makes sense of it{AS_IT_IS}"
    best = found[0]
    best_of = f"{EVERY[best.code].title} at {best.rate:,.0f} {medium_of(best.bus).unit}"
    if best.explained >= LEAST_EXPLAINED:
        why = "would fit, but nothing in it could have failed: chance fits as well"
        return f"cannot tell the code: {best_of} {why}{AS_IT_IS}"
    return f"cannot tell the code: {best_of} explains {best.explained:.0%} at best{AS_IT_IS}"
