"""What to try with a line that nothing was read from, or not all: the settings that may have been guessed wrongly."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from keel.lines.code import Guess
from keel.lines.pulses import idle_level
from keel.model.waveform import Logic
from keel.probe.channels import Probed
from keel.probe.lines import Candidate

MOSTLY_READ, MOST_FAULTY = 0.6, 0.25
"""A line is read in part where good frames explain less of it than that, or more of its frames are faulty."""
SHORT, OFTEN = 0.25, 0.02
"""Pulses are short where they are such a share of usual ones; a low-pass helps where there are so many of them."""
LOWER, UPPER = 0.3, 0.7
"""Where else low and high may part, as shares of the swing."""
FEWEST_EDGES = 8


def is_read_in_part(guess: Guess) -> bool:
    """Whether so much of a line is unread or faulty that something may have been guessed wrongly."""
    count = len(guess.frames)
    return count > 0 and (guess.explained < MOSTLY_READ or guess.faulty > MOST_FAULTY * count)


def to_try(line: Candidate, guess: Guess | None, channels: Mapping[str, Probed], named: frozenset[str]) -> str:
    """What else could be said of a line, as options of ``decode``; empty where there is nothing.

    Args:
        line: The line.
        guess: How it was read; None if it was not.
        channels: What was probed, by name.
        named: What a person said already: ``polarity``, ``threshold``, ``rate``, ``channels``.
    """
    mine = [channels[name] for name in line.roles if name in channels]
    if not mine:
        return ""
    if max(one.edges for one in mine) < FEWEST_EDGES:
        return _of_silence(mine[0]) if "threshold" not in named else ""
    tries = []
    if not line.wires and "polarity" not in named:
        rests_low = guess.inverted if guess is not None else idle_level(line.logic) == 0
        tries.append(f"--invert {'no' if rests_low else 'yes'}")
    first = mine[0]
    if first.levels is not None:
        if length := _too_short(line.logic):
            name = first.channel.name
            tries.append(f'--make "smooth=lowpass({name}, {length / 1e3:.3g}us)" --channel smooth=line')
        if "threshold" not in named and first.levels.swing:
            low, swing = first.levels.low, first.levels.high - first.levels.low
            tries.append(f"--threshold {low + LOWER * swing:.3g} or {low + UPPER * swing:.3g}")
    if "rate" not in named and not line.wires:
        tries.append("--rate N")
    if len(channels) > 1 and "channels" not in named:
        tries.append("another role: --channel CHANNEL=ROLE")
    return f"to try: {'; '.join(tries)}" if tries else ""


def _of_silence(one: Probed) -> str:
    """What to try with volts in which no levels were found."""
    if one.levels is None:
        return ""
    name = one.channel.name
    return f'to try: --threshold V, where low and high should part; --make "smooth=lowpass({name}, 10us)", behind noise'


def _too_short(logic: Logic) -> float:
    """How long the pulses are, in ns, that a low-pass should take away; 0 where there are hardly any."""
    lengths = np.diff(logic.edges)
    if not len(lengths):
        return 0.0
    limit = SHORT * float(np.median(lengths))
    short = lengths[lengths < limit]
    return float(np.percentile(short, 90)) if len(short) > OFTEN * len(lengths) else 0.0
