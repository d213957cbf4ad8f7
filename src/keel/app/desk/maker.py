"""Makes pictures of a recording, keeping between them what does not change. Runs on the desk's thread.

A picture is made as far as patience goes: an ask that has to look at every frame shows what it found so far, and
goes on with the next picture.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING

from keel.app.desk.picture import Health, Hush, Picture, ValuesShown, Wish
from keel.app.shared.state import FRAMES, HEALTH, VALUES, WATCH
from keel.errors import AskError
from keel.model.span import Span
from keel.model.units import NS_PER_S

if TYPE_CHECKING:
    from keel.app.views.values.reading import Valuer
    from keel.ask.matches import Matcher, Matches
    from keel.ask.nodes import Node, Scene
    from keel.measure.census import Census
    from keel.model.frames import Rows, Times
    from keel.signals.dictionary import Message
    from keel.store.recording import Recording, Snapshot

MEASURE_EVERY_S = 1.0
ACTIVITY_CELLS = 16
HISTOGRAM_CELLS = 44
SLOW_CYCLES = 3
"""What comes less than so often while it is learnt what moves by itself may move later all the same."""


class Maker:
    """Makes pictures."""

    def __init__(self, recording: Recording, courtesy: Callable[[], None] = lambda: None) -> None:
        """``courtesy`` is called between steps; it may take its time."""
        from keel.ask.language import parse
        from keel.ask.matches import Matcher
        from keel.ask.nodes import Scene
        from keel.measure.load import Loads
        from keel.measure.peaks import PeakFinder

        self._folder = recording.folder
        self._courtesy = courtesy
        self._loads, self._tape_loads, self._asked_loads = Loads(), Loads(), Loads()
        self._peaks = PeakFinder()
        self._matcher: Matcher | None = None
        self._ask_error = ""
        self._asked: tuple[str, Scene] | None = None
        self._keys: frozenset[int] = frozenset()
        self._held: Snapshot | None = None
        self._health: tuple[float, object, Health] | None = None
        self._activity: tuple[float, object, dict[int, Times]] | None = None
        self._messages: tuple[object, dict[int, Message]] | None = None
        self._named: set[int] = set()
        self._noise: tuple[object, dict[int, Rows]] | None = None
        self._counted = True
        self._valuer: Valuer | None = None
        self._everything, self._newest = Matcher(parse(""), Scene()), Matcher(parse(""), Scene())
        self.unfinished = False

    def make(self, wish: Wish, newest: Snapshot, patience: Callable[[], bool]) -> Picture:
        """A picture of what is wished for, as far as patience goes; ``unfinished`` says whether there is more."""
        from keel.ask.names import scene_of
        from keel.measure.census import census_of
        from keel.store.control import read_status

        self._held = (self._held or newest) if wish.held else None
        # Marks and names are always those of now, also on rows that are held.
        snapshot = replace(self._held or newest, manifest=newest.manifest, live=newest.live, book=newest.book)
        scene = scene_of(snapshot)
        whole = snapshot.span
        lens = wish.lens or whole
        self._courtesy()
        messages = self._messages_of(snapshot)
        counted = wish.view != FRAMES or not wish.ask
        matches = self._match(wish.ask, scene, snapshot, wish.lens, patience, counted)
        self.unfinished = not matches.complete
        self._courtesy()
        # A list of frames shows matches as they are found; who sends them need not be counted for that.
        census = census_of(matches if counted else self._everything.run(snapshot, wish.lens))
        self._courtesy()
        last_second = Span(max(newest.span.end - NS_PER_S, newest.span.start), newest.span.end)
        everything = self._everything.run(snapshot)
        all_of_newest = everything if newest.chunks == snapshot.chunks else self._newest.run(newest)
        now = self._loads.series(all_of_newest, last_second, 1)
        cells = max(wish.tape_cells, 1)
        overview = self._tape_loads.series(everything, whole, cells)
        return Picture(
            wish=wish,
            snapshot=snapshot,
            node=self._matcher_of(wish.ask, scene).node,
            matches=matches,
            scene=scene,
            keys=self._keys,
            messages=messages,
            whole=whole,
            lens=lens,
            rate_hz=float(now.rate_hz.sum()),
            loads=tuple(float(load) for load in now.load[:, 0]) if now.load.size else (),
            tape=self._loads.series(everything, lens, cells) if wish.lens is not None else overview,
            overview=overview if wish.lens is not None else None,
            faults=round(float(overview.faults.sum())),
            ask_error=self._ask_error,
            hints=self._hints(self._matcher_of(wish.ask, scene).node, scene, matches, whole) if wish.ask else (),
            status=read_status(self._folder) if newest.live else None,
            census=census,
            since=self._since(wish, snapshot, lens, patience) if wish.baseline is not None else None,
            hush=self._hush_of(wish, snapshot, lens, census, patience) if wish.hush is not None else None,
            activity=self._activity_of(matches, lens, wish) if wish.view == WATCH else {},
            values=self._values_of(snapshot, matches, lens, wish, patience) if wish.view == VALUES else None,
            health=self._health_of(snapshot, matches, census, lens, wish, patience) if wish.view == HEALTH else None,
        )

    def _messages_of(self, snapshot: Snapshot) -> dict[int, Message]:
        if self._messages is None or self._messages[0] is not snapshot.book:
            self._messages = (snapshot.book, {})
            self._named.clear()
        for chunk in snapshot.chunks:
            if chunk.serial not in self._named:
                self._named.add(chunk.serial)
                keys = chunk.keys.tolist()
                self._messages[1].update(snapshot.book.messages(keys))
                if not self._keys.issuperset(keys):
                    self._keys = self._keys.union(keys)
        return self._messages[1]

    def _values_of(
        self, snapshot: Snapshot, matches: Matches, lens: Span, wish: Wish, patience: Callable[[], bool]
    ) -> ValuesShown:
        from keel.app.views.values.reading import Valuer

        self._valuer = self._valuer or Valuer(self._courtesy)
        stamp = (id(self._matcher), snapshot.frames, wish.lens, matches.looked, snapshot.book)
        shown, complete = self._valuer.show(matches, lens, self._messages_of(snapshot), wish.values, stamp, patience)
        self.unfinished |= not complete
        return shown

    def _match(
        self,
        ask: str,
        scene: Scene,
        snapshot: Snapshot,
        lens: Span | None,
        patience: Callable[[], bool],
        counted: bool,
    ) -> Matches:
        matcher = self._matcher_of(ask, scene)
        self._counted = counted
        return matcher.run(snapshot, lens, patience)

    def _matcher_of(self, ask: str, scene: Scene) -> Matcher:
        from keel.ask.language import parse
        from keel.ask.matches import Matcher
        from keel.ask.nodes import Nothing

        if self._matcher is None or self._asked != (ask, scene):
            self._ask_error = ""
            try:
                node: Node = parse(ask, scene)
            except AskError as error:
                # A name may have gone since it was asked for. Everything would be a wrong answer.
                node, self._ask_error = Nothing(), str(error)
            # The summary is made where the rows are at hand, not when the census wants it.
            self._matcher = Matcher(node, scene, prepare=lambda part: part.summary if self._counted else None)
            self._asked = (ask, scene)
        return self._matcher

    def _hints(self, node: Node, scene: Scene, matches: Matches, whole: Span) -> tuple[str, ...]:
        """What the ask may have meant besides."""
        from keel.ask.hints import ambiguities, unmet

        said = ambiguities(node, scene)
        if matches.complete and not matches.total and whole.end > whole.start:
            said += unmet(node, scene, self._keys, whole)
        return tuple(said)

    def _part_of(self, snapshot: Snapshot, span: Span, patience: Callable[[], bool]) -> Matches:
        assert self._matcher is not None
        return self._matcher.run(snapshot, span, patience)

    def _since(self, wish: Wish, snapshot: Snapshot, lens: Span, patience: Callable[[], bool]) -> Census:
        from keel.measure.census import census_of

        start = max(lens.start, wish.baseline or 0)
        return census_of(self._part_of(snapshot, Span(start, max(lens.end, start)), patience))

    def _hush_of(
        self, wish: Wish, snapshot: Snapshot, lens: Span, census: Census, patience: Callable[[], bool]
    ) -> Hush:
        from keel.measure.flips import flips_by_key

        assert wish.hush is not None
        name = (wish.ask, wish.hush)
        if self._noise is None or self._noise[0] != name:
            learnt = self._part_of(snapshot, wish.hush, patience)
            self._noise = (name, flips_by_key(learnt)) if learnt.complete else None
            if self._noise is None:
                # What moved there is not known before all of it was looked at.
                self.unfinished = True
                return Hush({}, {}, complete=False)
        noise = self._noise[1]
        # With the lens elsewhere, what moves there; else what moved since the learning ended.
        apart = lens.end <= wish.hush.start or lens.start >= wish.hush.end
        start = lens.start if apart else wish.hush.end
        moved = flips_by_key(self._part_of(snapshot, Span(start, max(lens.end, start)), patience))
        reacting = {key: flips * (noise[key] == 0) if key in noise else flips for key, flips in moved.items()}
        found = {key: flips for key, flips in reacting.items() if flips.any()}
        return Hush(noise, found, frozenset(key for key in found if self._is_slow(key, census, wish.hush)))

    @staticmethod
    def _is_slow(key: int, census: Census, learnt: Span) -> bool:
        """Whether an identifier comes so seldom that little of it can have been learnt."""
        cycle = census[key].cycle if key in census else None
        return cycle is not None and cycle.count > 0 and cycle.mean * SLOW_CYCLES > learnt.length

    def _activity_of(self, matches: Matches, lens: Span, wish: Wish) -> dict[int, Times]:
        from keel.measure.census import activity

        now = time.monotonic()
        name = (wish, matches.looked)
        # The whole lens moves a cell in many seconds: once a second is often enough.
        if self._activity is None or self._activity[1] != name or now - self._activity[0] >= MEASURE_EVERY_S:
            self._activity = (now, name, activity(matches, lens.start, lens.end, ACTIVITY_CELLS))
        return self._activity[2]

    def _health_of(
        self,
        snapshot: Snapshot,
        matches: Matches,
        census: Census,
        lens: Span,
        wish: Wish,
        patience: Callable[[], bool],
    ) -> Health:
        from keel.measure.checks import run_checks
        from keel.measure.cycles import describe_tally
        from keel.measure.faults import classes
        from keel.measure.load import bus_means, cells_for
        from keel.measure.peaks import settled

        manifest = snapshot.manifest
        known = (wish, manifest.buses, manifest.checks, manifest.nominal, matches.complete)
        now = time.monotonic()
        # These go over every identifier: once a second is often enough.
        if self._health is not None and self._health[1] == known and now - self._health[0] < MEASURE_EVERY_S:
            return self._health[2]
        nominal = manifest.nominal
        describe = partial(describe_tally, start=lens.start, end=lens.end, bins=HISTOGRAM_CELLS)
        cycles = [describe(tally, nominal=nominal.get(key, 0)) for key, tally in census.items() if tally.good]
        cycles.sort(key=lambda c: (c.worth_a_look, -c.gap / max(c.usual, 1)))
        self._courtesy()
        peaks = self._peaks.find(matches, patience)
        self.unfinished = self.unfinished or peaks.looked < 1
        means = bus_means(matches, lens)
        series = self._asked_loads.series(matches, lens, cells_for(lens, wish.chart_cells))
        self._courtesy()
        health = Health(
            series,
            means,
            settled(peaks.buses, means, lens),
            min(peaks.looked, matches.looked),
            classes(matches, lens.end - lens.start),
            cycles,
            run_checks(manifest.checks, snapshot, wish.lens, patience),
        )
        if peaks.looked >= 1:
            self._health = (now, known, health)
        return health
