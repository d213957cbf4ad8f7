"""Channels as they are electrically: their levels, and the logic that these make."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from keel.errors import InputError
from keel.lines.code import Asked
from keel.lines.levels import Levels, levels_of, logic_of, other_cut
from keel.lines.pulses import idle_level
from keel.model.waveform import Channel, Logic

NOTHING_ASKED = Asked()


@dataclass(frozen=True, eq=False)
class Probed:
    """A channel as it is electrically.

    Attributes:
        levels: Its levels; None of logic.
        logic: What they make.
        other: Of one that rests between two levels what they make if its rest counts as the upper one.
    """

    channel: Channel
    levels: Levels | None
    logic: Logic
    other: Logic | None = None

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


def probed(channel: Channel, asked: Asked = NOTHING_ASKED) -> Probed:
    """A channel's levels, and its logic."""
    wave = channel.wave
    if isinstance(wave, Logic):
        return Probed(channel, None, wave)
    levels = levels_of(wave, asked.threshold, asked.hysteresis)
    lower = other_cut(levels)
    return Probed(channel, levels, logic_of(wave, levels), None if lower is None else logic_of(wave, lower))


def named(channels: Sequence[Probed], name: str) -> Probed:
    """The channel of a name, or of a number from 1.

    Raises:
        InputError: there is none.
    """
    for one in channels:
        if name in (one.channel.name, *one.channel.others) or (name.isdecimal() and int(name) == one.channel.number):
            return one
    there = ", ".join(one.channel.name for one in channels)
    raise InputError("--channel", f"no channel is called {name}", there)
