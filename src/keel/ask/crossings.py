"""Conditions on other channels beside the line: ``falls:motor<11V``, ``rises:motor>11V``."""

from __future__ import annotations

from dataclasses import dataclass
from difflib import get_close_matches

import numpy as np

from keel.ask.nodes import NONE, SOME, Scene, Scope, Verdicts
from keel.errors import AskError
from keel.model.frames import Mask
from keel.model.globs import Glob

UNITS = {"mv": 1e-3, "v": 1.0}


@dataclass(frozen=True)
class Crosses:
    """The first frame that begins from the moment on in which a channel crosses a voltage.

    Attributes:
        channel: The channel's name.
        volts: The voltage.
        rises: Whether it crosses it upward.
    """

    channel: str
    volts: float
    rises: bool

    def __str__(self) -> str:
        word, compare = ("rises", ">") if self.rises else ("falls", "<")
        return f"{word}:{Glob.literal(self.channel)}{compare}{self.volts:.9g}V"

    def reach(self) -> tuple[int, int]:
        """The frame before tells whether the moment is this one's; chunks know it."""
        return 0, 0

    def _rows(self, scope: Scope) -> Mask:
        """Which stored rows of the chunk are meant, shape (n,)."""
        chunk, crossings = scope.chunk, scope.scene.crossings
        mask = np.zeros(len(chunk), np.bool_)
        if crossings is None or not len(chunk):
            return mask
        times = chunk.batch.time
        order = np.argsort(times, kind="stable") if not chunk.ordered else chunk.order
        moments = crossings.times(self.channel, self.volts, self.rises)
        moments = moments[(moments > chunk.time_before) & (moments <= times[order[-1]])]
        mask[order[np.searchsorted(times[order], moments, side="left")]] = True
        return mask

    def _kept(self, scope: Scope) -> Mask:
        name = (self, "rows", scope.chunk.serial)
        if name not in scope.known:
            scope.known[name] = self._rows(scope)
        return scope.known[name]

    def decide(self, scope: Scope) -> Verdicts:
        """Where a chunk has no such frame nothing is looked at."""
        there = bool(self._kept(scope).any())
        return np.full(len(scope.chunk.keys), SOME if there else NONE, np.int8)

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows that are meant."""
        return self._kept(scope)[low:high]


def crosses(word: str, name: str, compare: str, volts: str, position: int, scene: Scene | None) -> Crosses:
    """A crossing, checked against the channels that are known.

    Raises:
        AskError: no such channel is recorded, or the comparison goes the other way.
    """
    rises = word == "rises"
    right = ">" if rises else "<"
    if word == "changes" or compare != right:
        wanted = "rises: with >, or falls: with <" if word == "changes" else f"{word}:{name}{right}{volts}"
        raise AskError(position, f"“{word}:” takes no “{compare}” for a voltage", (wanted,))
    digits = volts.lower().rstrip("mv")
    value = float(digits) * UNITS.get(volts.lower()[len(digits) :], 1.0)
    if scene is not None:
        known = {one.casefold(): one for one in scene.channels}
        if name.casefold() not in known:
            near = get_close_matches(name.casefold(), known, 3, 0.4) or sorted(known)[:4]
            expected = tuple(str(Glob.literal(known[one])) for one in near) or ("a recording with waveforms in volts",)
            raise AskError(position, f"no channel is called “{name}”", expected)
        name = known[name.casefold()]
    return Crosses(name, value, rises)
