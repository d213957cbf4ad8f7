"""Conditions on signals: ``Message.signal>40``, ``rises:``, ``falls:``, ``changes:``, ``becomes:``.

A signal counts where a frame without fault carries it. A number is compared with the physical value, a text with the
value table; "not available" and "error" are values, too, and no number compares with them.
"""

from __future__ import annotations

from dataclasses import dataclass
from difflib import get_close_matches
from math import isfinite
from typing import Any, Literal

import numpy as np

from keel.ask.nodes import NONE, SOME, Scene, Scope, Verdicts
from keel.ask.terms import COMPARISONS
from keel.errors import AskError
from keel.model.frames import Mask
from keel.model.globs import Glob, SignalGlob
from keel.signals.coding import Decoded
from keel.signals.decoding import decode_stretch
from keel.signals.dictionary import Message
from keel.signals.signal import ERROR, NOT_AVAILABLE, Signal, Standing

Change = Literal["rises", "falls", "changes", "becomes"]
SEARCHED_BACK = 64
"""Frames of an identifier looked at first, when its last one before is wanted."""


@dataclass(frozen=True)
class Wanted:
    """A value to compare with: a text, with wildcards, and the number it is, if it is one."""

    compare: str
    text: Glob

    def __str__(self) -> str:
        return f"{self.compare}{self.text}"

    @property
    def number(self) -> float | None:
        """The number it is. Not infinity, and not "not a number": nothing on a bus is compared with these."""
        try:
            number = float(self.text.name)
        except ValueError:
            return None
        return number if isfinite(number) else None

    def holds(self, signal: Signal, found: Decoded) -> Mask:
        """Where it holds, shape (m,)."""
        word = self.text.name.lower()
        raws = [raw for raw, text in signal.texts.items() if self.text.fits(text)]
        if raws:
            same: Mask = np.isin(found.raw, np.array(raws, np.int64))
        elif word in (NOT_AVAILABLE, ERROR):
            same = found.standing == (Standing.NOT_AVAILABLE if word == NOT_AVAILABLE else Standing.ERROR)
        elif self.number is not None:
            if self.compare not in ("=", "!="):
                compared: Mask = COMPARISONS[self.compare](found.values, self.number) & found.there
                return compared
            near = np.abs(found.values - self.number) <= abs(signal.scale) * 1e-6 + abs(self.number) * 1e-12
            equal: Mask = found.there & (near == (self.compare == "="))
            return equal
        else:
            same = np.zeros(len(found), np.bool_)
            return same
        held: Mask = same == (self.compare == "=")
        return held


class _OfSignals:
    """A condition on the signals that a pattern names."""

    pattern: SignalGlob

    def of(self, scope: Scope, key: int) -> list[tuple[Message, Signal]]:
        """The signals of an identifier that are meant."""
        message = scope.scene.book.message(key)
        return [(message, s) for s in scope.scene.book.signals(key, self.pattern)] if message else []

    def decide(self, scope: Scope) -> Verdicts:
        """Only identifiers that have such a signal need a look."""
        known = [bool(self.of(scope, key)) for key in scope.chunk.keys.tolist()]
        return np.where(np.array(known, np.bool_), SOME, NONE).astype(np.int8)

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows of which any such signal meets it."""
        chunk = scope.chunk
        mask = np.zeros(high - low, np.bool_)
        first, last = (int(run) for run in chunk.runs_of(np.array([low, high - 1])))
        for run in range(first, last + 1):
            key = int(chunk.keys[run])
            start, end = max(int(chunk.starts[run]), low), min(int(chunk.starts[run + 1]), high)
            for message, signal in self.of(scope, key):
                found = decode_stretch(message, signal, chunk.batch, start, end)
                if len(found):
                    mask[found.rows[self.meets(scope, key, message, signal, found)] - low] = True
        return mask

    def meets(self, scope: Scope, key: int, message: Message, signal: Signal, found: Decoded) -> Mask:
        """Where it holds, shape (m,)."""
        raise NotImplementedError


@dataclass(frozen=True)
class SignalIs(_OfSignals):
    """``Message.signal>40``"""

    pattern: SignalGlob
    wanted: Wanted

    def __str__(self) -> str:
        return f"{self.pattern}{self.wanted}"

    def reach(self) -> tuple[int, int]:
        """Nothing before or after matters."""
        return 0, 0

    def meets(self, scope: Scope, key: int, message: Message, signal: Signal, found: Decoded) -> Mask:
        """Where the value compares so."""
        return self.wanted.holds(signal, found)


@dataclass(frozen=True)
class SignalMoves(_OfSignals):
    """``rises:`` and its like: against the frame before of the same identifier that carries the signal.

    The first one that carries it is compared with none, and never matches.
    """

    pattern: SignalGlob
    change: Change
    wanted: Wanted | None = None

    def __str__(self) -> str:
        return f"{self.change}:{self.pattern}{self.wanted or ''}"

    def reach(self) -> tuple[int, int]:
        """The frame before may be any time ago, but what was before a sealed chunk does not change."""
        return 0, 0

    def meets(self, scope: Scope, key: int, message: Message, signal: Signal, found: Decoded) -> Mask:
        """Where it moves so."""
        before = _last_before(scope, key, message, signal, int(found.rows[0]))
        joined = found if before is None else _put_before(before, found)
        if self.change == "becomes":
            assert self.wanted is not None
            holds = self.wanted.holds(signal, joined)
            moved: Any = holds[1:] & ~holds[:-1]
        elif self.change == "changes":
            moved = joined.raw[1:] != joined.raw[:-1]
        else:
            both = joined.there[1:] & joined.there[:-1]
            step = np.where(both, joined.values[1:], 0.0) - np.where(both, joined.values[:-1], 0.0)
            moved = step > 0 if self.change == "rises" else step < 0
        return moved if before is not None else np.concatenate([[False], moved])


def _put_before(one: Decoded, rest: Decoded) -> Decoded:
    def join(name: str) -> Any:
        return np.concatenate([getattr(one, name)[-1:], getattr(rest, name)])

    return Decoded(rest.signal, join("rows"), join("raw"), join("values"), join("standing"))


def _last_before(scope: Scope, key: int, message: Message, signal: Signal, row: int) -> Decoded | None:
    """The signal in the last frame of its identifier before a row of the chunk that carries it."""
    for place in range(scope.place, -1, -1):
        chunk = scope.chunks[place]
        run = int(np.searchsorted(chunk.keys, np.uint64(key)))
        if run == len(chunk.keys) or int(chunk.keys[run]) != key:
            continue
        low = int(chunk.starts[run])
        high = row if place == scope.place else int(chunk.starts[run + 1])
        for start in (max(high - SEARCHED_BACK, low), low):
            found = decode_stretch(message, signal, chunk.batch, start, high) if high > start else None
            if found is not None and len(found):
                return found
    return None


def check_signal(pattern: SignalGlob, position: int, scene: Scene | None, wanted: Wanted | None) -> None:
    """Say that no signal is meant, or that none has such a value.

    Raises:
        AskError: with what there is instead.
    """
    if scene is None:
        return
    of_message = pattern.message or Glob("*")
    known = [
        (str(SignalGlob.literal(m.name, s.name)), s)
        for d in scene.book.dictionaries
        for m in d.messages
        if of_message.fits(m.name)
        for s in m.signals
    ]
    meant = [s for _, s in known if pattern.signal.fits(s.name)]
    if not meant:
        names = {n.lower(): n for n in (scene.book.signal_names if not known else {n for n, _ in known})}
        near = get_close_matches(str(pattern).lower(), names, 3, 0.4) or sorted(names)[:4]
        raise AskError(position, f"no signal is called “{pattern}”", tuple(names[n] for n in near))
    if wanted is None or wanted.number is not None:
        return
    if wanted.compare not in ("=", "!="):
        raise AskError(position, f"“{wanted.text.name}” is no number to compare with", ("a number",))
    texts = {text for s in meant for text in s.texts.values()} | {NOT_AVAILABLE, ERROR}
    if not any(wanted.text.fits(text) for text in texts):
        ordered = tuple(sorted(texts - {NOT_AVAILABLE, ERROR}))
        word = wanted.text.name
        near = get_close_matches(word, ordered, 3, 0.4)
        raise AskError(position, f"“{pattern}” has no value “{word}”", tuple(near) or ordered or ("a number",))
