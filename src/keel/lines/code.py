"""What a line code is: how it reads a line, and how well that explains what is there."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from keel.lines.evidence import LEAST_EXPLAINED, TOLD, Evidence
from keel.lines.pulses import BitTime
from keel.lines.timing import Pulses
from keel.model.bus import Bus
from keel.model.frames import FrameBatch
from keel.model.waveform import Logic


@dataclass(frozen=True)
class Asked:
    """What a person said of a line; what is None is found.

    Attributes:
        rate, fast_rate: In bit/s.
        inverted: Whether it rests low although its code rests high.
        settings: What the code itself takes, by name.
        threshold: Where low and high part, in volts.
        hysteresis: How far below and above that, together, nothing counts, in volts.
        tolerance: By which share the bits may be off ``rate`` and still set it themselves; beyond, ``rate`` holds.
    """

    rate: float | None = None
    fast_rate: float | None = None
    inverted: bool | None = None
    settings: Mapping[str, str] = field(default_factory=dict)
    threshold: float | None = None
    hysteresis: float | None = None
    tolerance: float | None = None


@dataclass(frozen=True, eq=False)
class Guess:
    """A line read in one way.

    Attributes:
        code: The code.
        rate, fast_rate: In bit/s, as measured; ``fast_rate`` is None where there is one rate.
        inverted: Whether it was read with its levels exchanged.
        settings: What was found or said of the code.
        frames: What came, on bus 0, times in ns on the waveform's clock.
        bus: The bus it is of, but for its name; its rate is the usual one that is meant, where one is near.
        explained: The share of the line's active time that good frames cover.
        evidence: What speaks for it.
        check: What a good frame has, in words; empty where there is no check that could have failed.
        faulty: How many frames have a fault.
        how: The numbers that read any of its frames again, for `Code.explain`.
        said: What is to be known, in sentences.
    """

    code: str
    rate: float
    fast_rate: float | None
    inverted: bool
    settings: Mapping[str, Any]
    frames: FrameBatch
    bus: Bus
    explained: float
    evidence: Evidence
    check: str
    faulty: int
    said: tuple[str, ...] = ()
    how: Mapping[str, float] = field(default_factory=dict)

    @property
    def is_told(self) -> bool:
        """Whether so much speaks for it that it is taken for what the line is."""
        return self.evidence.bits >= TOLD and self.explained >= LEAST_EXPLAINED


def rate_words(said: float | None, measured: float | None) -> tuple[str, ...]:
    """What is to be said where a person named another rate than a line has."""
    if said is None or measured is None or abs(measured / said - 1) < OTHER_RATE:
        return ()
    return (f"you said {said:,.0f}; the bits measure {measured:,.0f}",)


OTHER_RATE = 0.03
"""A measured rate that differs by less is meant by the one that was named."""


@dataclass(frozen=True)
class Field:
    """A field of a frame over the waveform.

    Attributes:
        name: What it is.
        start, end: In ns on the waveform's clock.
        value: A number, where it is one.
        text: Hex, or words.
        fault: What is wrong with it, as a fault's word.
        raw: The bytes on the wire that it is, where the line carries bytes.
        expected: Of a wrong checksum: what it should have been, in hex.
    """

    name: str
    start: int
    end: int
    value: float | None = None
    text: str | None = None
    fault: str | None = None
    raw: bytes = b""
    expected: str | None = None

    def to_json(self) -> dict[str, Any]:
        """As ``frames --fields`` has it."""
        row: dict[str, Any] = {"name": self.name, "start": self.start, "end": self.end, "value": self.value}
        row |= {"text": self.text} if self.text is not None else {}
        row |= {"fault": self.fault} if self.fault is not None else {}
        return row | ({"expected": self.expected} if self.expected is not None else {})


@dataclass(frozen=True)
class How:
    """How a line was read: what `Code.explain` needs.

    Attributes:
        numbers: As `Guess.how` has them.
        settings: As `Guess.settings` has them.
    """

    numbers: Mapping[str, float]
    settings: Mapping[str, Any]


Read = Callable[[Logic, BitTime | None, Asked], list[Guess]]
Explain = Callable[[Logic, How, int, int], list[Field]]
"""Of a line as it was read, and begin and end of a frame in ns: the frame's fields, in order."""


Time = Callable[[Logic, How, Sequence[Field]], Pulses]
"""Of a line around a frame, and the frame's fields: its pulses, and how far each edge is off."""


@dataclass(frozen=True)
class Code:
    """A line code.

    Attributes:
        word: As commands have it.
        title: What it is.
        read: The ways to read a line in it, given the bit time that its edges tell; the best first, or none.
        explain: The fields of a frame.
        carries_bytes: Whether what is on the wire are bytes; its fields say which.
        takes: Settings by name, and the values they take in words.
        roles: What its channels may be.
        named: The same where a person named the code, if it is read otherwise then.
        medium: The kind of line that it is of; empty where that is called as the code is.
        time: How far the edges of a frame are from where they should be; None where that says nothing.
        is_tried: Whether it is tried where nobody named a code; not if another one finds its frames, too.
    """

    word: str
    title: str
    read: Read
    explain: Explain
    carries_bytes: bool = False
    takes: Mapping[str, str] = field(default_factory=dict)
    roles: tuple[str, ...] = ("line",)
    is_tried: bool = True
    medium: str = ""
    named: Read | None = None
    time: Time | None = None
