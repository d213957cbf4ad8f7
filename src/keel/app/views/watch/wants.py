"""What Watch wants of the desk: counts since the baseline, what reacts, activity over the lens."""

from __future__ import annotations

import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from keel.model.span import Span

if TYPE_CHECKING:
    from keel.app.desk.making import Making
    from keel.measure.census import Census, Tally
    from keel.model.frames import Rows, Times

MEASURE_EVERY_S = 1.0
ACTIVITY_CELLS = 16
SLOW_CYCLES = 3
"""What comes less than so often while it is learnt what moves by itself may move later all the same."""


@dataclass(frozen=True)
class Hush:
    """Bits that moved by themselves, and bits that moved since and did not then; flips of each bit, by key.

    Attributes:
        slow: Of those that react the ones that came too seldom for much to be learnt of them.
        complete: Whether all that was to be learnt is; before that nothing is known to react.
    """

    noise: Mapping[int, Rows]
    reacting: Mapping[int, Rows]
    slow: frozenset[int] = frozenset()
    complete: bool = True


@dataclass(frozen=True, eq=False)
class Watched:
    """Watch's part of a picture: the census since the baseline (None without one), what is hushed, activity by key."""

    since: Mapping[int, Tally] | None = None
    hush: Hush | None = None
    activity: Mapping[int, Times] = field(default_factory=dict)


class _Kept:
    """What does not change from one picture to the next."""

    def __init__(self) -> None:
        self.activity: tuple[float, object, Mapping[int, Times]] | None = None
        self.noise: tuple[object, dict[int, Rows]] | None = None


@dataclass(frozen=True)
class WatchWant:
    """Counts since the baseline, and what moves that did not in ``hush``."""

    baseline: int | None = None
    hush: Span | None = None

    def make(self, making: Making) -> Watched:
        """Watch's part."""
        return Watched(self._since(making), self._hushed(making), self._activity(making))

    def _since(self, making: Making) -> Census | None:
        from keel.measure.census import census_of

        if self.baseline is None:
            return None
        start = max(making.lens.start, self.baseline)
        return census_of(making.in_span(Span(start, max(making.lens.end, start))))

    def _activity(self, making: Making) -> Mapping[int, Times]:
        from keel.measure.census import activity

        kept = making.helpers.of(_Kept)
        now, name = time.monotonic(), (making.wish, making.matches.looked)
        # The whole lens moves a cell in many seconds: once a second is often enough.
        if kept.activity is None or kept.activity[1] != name or now - kept.activity[0] >= MEASURE_EVERY_S:
            found = activity(making.matches, making.lens.start, making.lens.end, ACTIVITY_CELLS)
            kept.activity = (now, name, found)
        return kept.activity[2]

    def _hushed(self, making: Making) -> Hush | None:
        from keel.measure.flips import flips_by_key

        if self.hush is None:
            return None
        kept, lens = making.helpers.of(_Kept), making.lens
        name = (making.wish.ask, self.hush)
        if kept.noise is None or kept.noise[0] != name:
            learnt = making.in_span(self.hush)
            kept.noise = (name, flips_by_key(learnt)) if learnt.complete else None
            if kept.noise is None:
                # What moved there is not known before all of it was looked at.
                making.unfinished = True
                return Hush({}, {}, complete=False)
        noise = kept.noise[1]
        # With the lens elsewhere, what moves there; else what moved since the learning ended.
        apart = lens.end <= self.hush.start or lens.start >= self.hush.end
        start = lens.start if apart else self.hush.end
        moved = flips_by_key(making.in_span(Span(start, max(lens.end, start))))
        reacting = {key: flips * (noise[key] == 0) if key in noise else flips for key, flips in moved.items()}
        found = {key: flips for key, flips in reacting.items() if flips.any()}
        return Hush(noise, found, frozenset(key for key in found if _is_slow(key, making.census, self.hush)))


def _is_slow(key: int, census: Census, learnt: Span) -> bool:
    """Whether an identifier comes so seldom that little of it can have been learnt."""
    cycle = census[key].cycle if key in census else None
    return cycle is not None and cycle.count > 0 and cycle.mean * SLOW_CYCLES > learnt.length
