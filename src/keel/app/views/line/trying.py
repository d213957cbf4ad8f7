"""What comes of reading a line so, while it is being said: of the part in the lens, behind the interface."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

from keel.app.desk.errands import Errand
from keel.app.views.line.trial import Trial
from keel.model.span import Span

if TYPE_CHECKING:
    from keel.app.desk.making import Making
    from keel.probe.decoding import Decoded
    from keel.probe.looking import SeenFrame

MOST_POINTS = 2_000_000
"""So many samples or edges are looked at while somebody tries; all of them once it is taken."""
MOST_SEEN = 300
LEAST_COLUMNS = 16
"""Fields are found of frames that are at least so many columns of dots wide."""
LEAST_BIT_COLUMNS = 4
"""And bits where one is so many columns of dots wide."""


@dataclass(frozen=True, eq=False)
class Tried:
    """What came of it.

    Attributes:
        trial: What was tried.
        span: The part that was looked at, in ns.
        frames, faulty: How many frames there are in it, and how many of them have a fault.
        explained: The share of its active time that good frames cover.
        said: What is to be told, in sentences; or why there is nothing.
        seen: The frames, with their fields where there is room for them.
        over: Of a line of several wires, over which channels its frames are shown, and the form of those; -1 for all.
    """

    trial: Trial
    span: Span
    frames: int = 0
    faulty: int = 0
    explained: float = 0.0
    said: tuple[str, ...] = ()
    seen: tuple[SeenFrame, ...] = ()
    over: Mapping[str, int] = field(default_factory=dict)


def trying(making: Making, trial: Trial, columns: int) -> Errand[Tried]:
    """How the trial of what was said stands."""
    said = replace(trial, row=0)
    key = (making.folder, making.snapshot.manifest.generation, making.lens, said)
    return making.errands.run(Tried, key, lambda _, __: _tried(making, said, columns))


def _tried(making: Making, trial: Trial, columns: int) -> Tried:
    from keel.probe.anew import try_reading

    lens = making.lens
    done, span = try_reading(making.snapshot, trial.anew(), lens, MOST_POINTS)
    if not done.lines:
        why = tuple(sentence for sentences in done.said.values() for sentence in sentences)
        return Tried(trial, span, said=why or ("nothing comes of it",))
    return _effect(making, trial, span, done, columns)


def _effect(making: Making, trial: Trial, span: Span, done: Decoded, columns: int) -> Tried:
    from keel.probe.lines import told
    from keel.probe.looking import frames_tried

    line, lens = done.lines[0], making.lens
    guess = line.guess
    column = (lens.end - lens.start) / columns
    is_few = len(guess.frames) <= MOST_SEEN
    seen = frames_tried(line, LEAST_COLUMNS * column, LEAST_BIT_COLUMNS * column) if is_few else ()
    said = tuple(told(line))
    return Tried(trial, span, len(guess.frames), guess.faulty, guess.explained, said, seen, line.over)
