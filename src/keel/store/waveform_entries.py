"""Waveforms and the lines that were read from them, as the manifest lists them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from keel.model.extensible import Extensible


@dataclass(frozen=True)
class WaveformEntry(Extensible):
    """A channel that was recorded, or one that is made of others.

    Attributes:
        number: Its file's; what is made of others has none of its own, but a number all the same.
        name: What the channel is called.
        kind: ``logic`` has edges, ``analog`` samples, ``made`` a formula; ``levels`` are those a line was read from.
        start, end: What was recorded, in ns on the clock of the recording.
        points: How many edges or samples.
        bytes: The size of its file.
        digest: The checksum of its file.
        step, scale: Of samples: ns from one to the next, and volts of a sample of 1.
        first: The level at the start of logic.
        unknown: How many spans there are in which the level is not known.
        formula: How it is made of others.
        others: Other names it goes by.
        notes: What its file said of it, or how it was read, in sentences.
        source: The file it came from.
        measured: What was measured of it: ``low``, ``high``, ``threshold`` (volts), ``idle`` (0 or 1), ``edges``,
            ``bit_ns``; as far as it could be.
        offset: What was added to the times of its file to lay it onto the recording's clock, in ns.
    """

    number: int
    name: str
    kind: Literal["logic", "analog", "made", "levels"]
    start: int
    end: int
    points: int = 0
    bytes: int = 0
    digest: str = ""
    step: float = 0.0
    scale: float = 1.0
    first: int = 0
    unknown: int = 0
    formula: str = ""
    others: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    source: str = ""
    measured: Mapping[str, float] = field(default_factory=dict, hash=False)
    offset: int = 0

    def __post_init__(self) -> None:
        if self.end < self.start or self.points < 0 or self.first not in (0, 1):
            raise ValueError(f"no waveform has {self.points} points from {self.start} to {self.end} ns")

    @property
    def is_channel(self) -> bool:
        """Whether a person sees it as a channel."""
        return self.kind != "levels"


@dataclass(frozen=True)
class LineEntry(Extensible):
    """A bus whose frames were decoded from a waveform, and how.

    Attributes:
        bus: The bus's index.
        code: The line code, as commands call it.
        channels: The names of the channels it was read from, with the role of each.
        levels: The number of the waveform that holds the levels it was read from.
        how: The numbers that read any frame again.
        settings: What was found or said of the code.
        rate, fast_rate: In bit/s.
        inverted: Whether the levels were exchanged.
        explained: The share of the line's active time that good frames cover.
        given: What a person set; all else was found.
        said: What was found, in sentences.
        longest: How long its longest frame takes, in ns.
        twin: The bus that was recorded while this line was probed, and has the same frames; -1 if none is known.
        wires: Of a line of several wires, by the name of the channel: the number of the waveform with its levels.
        over: Of such a line, over which channels its frames are shown, and the form of those that are; -1 for all.
    """

    bus: int
    code: str
    channels: Mapping[str, str]
    levels: int
    how: Mapping[str, float]
    settings: Mapping[str, Any]
    rate: float
    fast_rate: float | None = None
    inverted: bool = False
    explained: float = 0.0
    given: tuple[str, ...] = ()
    said: tuple[str, ...] = ()
    longest: int = 0
    twin: int = -1
    wires: Mapping[str, int] = field(default_factory=dict)
    over: Mapping[str, int] = field(default_factory=dict)

    def shows(self, channel: str, form: int) -> bool:
        """Whether a frame of a form is shown over a channel that it is shown on."""
        return self.over.get(channel, -1) in (-1, form)


@dataclass(frozen=True)
class Replaced(Extensible):
    """What stood before lines were decoded anew, so that it can be taken back.

    Attributes:
        segments: The numbers of the segments that are no longer listed, as `SegmentEntry` has them.
        lines, buses, comments, waveforms: What the manifest said; of ``waveforms`` older recordings have none.
        by: The numbers of the segments that came in their place.
    """

    segments: tuple[dict[str, Any], ...]
    lines: tuple[dict[str, Any], ...]
    buses: tuple[dict[str, Any], ...]
    comments: tuple[dict[str, Any], ...] = ()
    by: tuple[int, ...] = ()
    waveforms: tuple[dict[str, Any], ...] = ()


def channels(waveforms: Sequence[WaveformEntry]) -> list[WaveformEntry]:
    """The channels among the waveforms of a recording, in order."""
    return [entry for entry in waveforms if entry.is_channel]


def line_on(waveforms: Sequence[WaveformEntry], lines: Sequence[LineEntry], channel: WaveformEntry) -> LineEntry | None:
    """The line whose frames are shown over a channel: that which was read from it, or that it was made for."""
    names = {one.number: one.name for one in waveforms}
    known = {one.name for one in waveforms if one.is_channel}
    for line in lines:
        if line.over:
            if channel.name in line.over:
                return line
            continue
        name = names.get(line.levels, "")
        if channel.name == (name if name in known else next(iter(line.channels), "")):
            return line
    return None


def line_of_channel(
    waveforms: Sequence[WaveformEntry], lines: Sequence[LineEntry], channel: WaveformEntry
) -> LineEntry | None:
    """The line that was read of a channel, be it alone or together with another one."""
    alone = line_on(waveforms, lines, channel)
    return alone or next((line for line in lines if channel.name in line.channels), None)
