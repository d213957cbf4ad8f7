"""Makes pictures of a recording, keeping between them what does not change. Runs on the desk's thread.

A picture is made as far as patience goes: an ask that has to look at every frame shows what it found so far, and
goes on with the next picture.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

from keel.app.desk.errands import Errands
from keel.app.desk.making import Helpers, Making, Wish
from keel.app.desk.picture import Picture
from keel.errors import AskError
from keel.model.span import Span
from keel.model.units import NS_PER_S

if TYPE_CHECKING:
    from keel.ask.matches import Matcher, Matches
    from keel.ask.nodes import Node, Scene
    from keel.signals.dictionary import Message
    from keel.store.recording import Recording, Snapshot


class Maker:
    """Makes pictures."""

    def __init__(
        self, recording: Recording, courtesy: Callable[[], None] = lambda: None, errands: Errands | None = None
    ) -> None:
        """``courtesy`` is called between steps; it may take its time."""
        from keel.ask.language import parse
        from keel.ask.matches import Matcher
        from keel.ask.nodes import Scene
        from keel.measure.load import Loads

        self._folder = recording.folder
        self._courtesy = courtesy
        self._errands = errands or Errands(lambda: None)
        self._helpers = Helpers()
        self._loads, self._tape_loads = Loads(), Loads()
        self._matcher: Matcher | None = None
        self._ask_error = ""
        self._asked: tuple[str, Scene] | None = None
        self._keys: frozenset[int] = frozenset()
        self._held: Snapshot | None = None
        self._messages: tuple[object, dict[int, Message]] | None = None
        self._named: set[int] = set()
        self._counted = True
        self._everything, self._newest = Matcher(parse(""), Scene()), Matcher(parse(""), Scene())
        self._parts: dict[type[object], object] = {}
        self._was_live = False
        self.unfinished = False

    def make(self, wish: Wish, newest: Snapshot, patience: Callable[[], bool], gone: str = "") -> Picture:
        """A picture of what is wished for, as far as patience goes; ``unfinished`` says whether there is more."""
        from keel.ask.names import scene_of
        from keel.measure.census import census_of
        from keel.store.control import read_status

        self._was_live = self._was_live or newest.live
        self._held = (self._held or newest) if wish.held else None
        # Marks and names are always those of now, also on rows that are held.
        snapshot = replace(self._held or newest, manifest=newest.manifest, live=newest.live, book=newest.book)
        scene = scene_of(snapshot)
        whole = snapshot.span
        lens = wish.lens or whole
        self._courtesy()
        messages = self._messages_of(snapshot)
        counted = wish.counted or not wish.ask
        matcher = self._matcher_of(wish.ask, scene)
        self._counted = counted
        matches = matcher.run(snapshot, wish.lens, patience)
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
        if wish.want is not None:
            making = Making(
                self._folder,
                wish,
                snapshot,
                matcher.node,
                matches,
                scene,
                messages,
                whole,
                lens,
                census,
                patience,
                self._courtesy,
                lambda span: self._in_span(matcher, snapshot, span, patience),
                self._helpers,
                self._errands,
                self._ask_error,
            )
            made = wish.want.make(making)
            self._parts = {**self._parts, type(made): made}
            self.unfinished = self.unfinished or making.unfinished
        return Picture(
            wish=wish,
            snapshot=snapshot,
            node=matcher.node,
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
            hints=self._hints(matcher.node, scene, matches, whole) if wish.ask else (),
            status=read_status(self._folder) if newest.live else None,
            census=census,
            parts=self._parts,
            gone=gone,
            was_live=self._was_live,
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

    @staticmethod
    def _in_span(matcher: Matcher, snapshot: Snapshot, span: Span, patience: Callable[[], bool]) -> Matches:
        return matcher.run(snapshot, span, patience)
