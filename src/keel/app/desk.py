"""The desk: a thread that reads the recording, runs the ask and the measures, and hands finished pictures to the
views. The interface thread never waits for it."""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from keel.app.state import HEALTH, WATCH
from keel.errors import AskError, KeelError, NotARecording
from keel.model.span import Span
from keel.model.units import NS_PER_S

if TYPE_CHECKING:
    from keel.ask.matches import Matcher, Matches
    from keel.ask.nodes import Scene
    from keel.measure.census import Tally
    from keel.measure.cycles import Cycle
    from keel.measure.faults import FaultClass
    from keel.measure.load import BusLoad, Series
    from keel.model.frames import Times
    from keel.signals.dictionary import Message
    from keel.store.control import Status
    from keel.store.recording import Recording, Snapshot

TICK_S = 0.25
COURTESY_S = 0.05
"""So long the desk rests after a key, so that the interface has the interpreter to itself while it answers."""
START_PATIENCE_S = 20.0


@dataclass(frozen=True)
class Wish:
    """What the views want to see."""

    view: str
    lens: Span | None
    ask: str
    held: bool
    tape_cells: int
    chart_cells: int


@dataclass(frozen=True)
class Health:
    """What the Health view shows."""

    series: Series
    loads: list[BusLoad]
    faults: list[FaultClass]
    cycles: list[Cycle]


@dataclass(frozen=True)
class Picture:
    """Everything that is shown of one moment. Immutable."""

    wish: Wish
    snapshot: Snapshot
    matches: Matches
    scene: Scene
    messages: dict[int, Message]
    whole: Span
    lens: Span
    rate_hz: float
    loads: tuple[float, ...]
    tape: Series
    status: Status | None
    census: dict[int, Tally] = field(default_factory=dict)
    activity: dict[int, Times] = field(default_factory=dict)
    health: Health | None = None

    def bus_name(self, key: int) -> str:
        """The name of a key's bus."""
        return self.snapshot.manifest.buses[key >> 56].name

    def name(self, key: int) -> str:
        """The message name of a key, or a dash."""
        message = self.messages.get(key)
        return message.name if message else "—"


Deliver = Callable[[Picture | KeelError], None]


class Desk:
    """Reads one recording and makes pictures of it until it is closed."""

    def __init__(self, folder: Path, deliver: Deliver) -> None:
        self.folder = folder
        self._deliver = deliver
        self._wish: Wish | None = None
        self._jobs: queue.SimpleQueue[Callable[[], None]] = queue.SimpleQueue()
        self._wake = threading.Event()
        self._closed = False
        self._quiet_until = 0.0
        self._thread = threading.Thread(target=self._run, name="desk", daemon=True)

    def start(self) -> None:
        """Begin reading."""
        self._thread.start()

    def close(self) -> None:
        """Stop; waits for what is being done."""
        self._closed = True
        self._wake.set()
        if self._thread.is_alive() and threading.current_thread() is not self._thread:
            self._thread.join(timeout=5)

    def wish(self, wish: Wish) -> None:
        """What the views want from now on; an unfinished picture of an older wish is not delivered twice."""
        self._wish = wish
        self._wake.set()

    def give_way(self) -> None:
        """A key was pressed: let the interface answer it first."""
        self._quiet_until = time.monotonic() + COURTESY_S

    def _courtesy(self) -> None:
        rest = self._quiet_until - time.monotonic()
        if rest > 0:
            time.sleep(rest)

    def do(self, job: Callable[[], None]) -> None:
        """Do something to the recording on the desk's thread, such as adding a mark."""
        self._jobs.put(job)
        self._wake.set()

    def _run(self) -> None:
        recording = self._open()
        if recording is None:
            return
        maker = _Maker(recording, self._courtesy)
        shown: tuple[object, ...] | None = None
        while not self._closed:
            begin = time.monotonic()
            self._wake.clear()
            try:
                while not self._jobs.empty():
                    self._jobs.get_nowait()()
                changed = recording.refresh()
                wish = self._wish
                snapshot = recording.snapshot()
                stamp = (wish, snapshot.live, snapshot.frames)
                if wish is not None and (changed or stamp != shown or snapshot.live):
                    self._deliver(maker.make(wish, snapshot))
                    shown = stamp
            except KeelError as error:
                self._deliver(error)
            # At least as long a rest as the work took: the interface comes first.
            took = time.monotonic() - begin
            self._wake.wait(max(TICK_S - took, min(took, 1.0)))

    def _open(self) -> Recording | None:
        from keel.store.recording import Recording

        begin = time.monotonic()
        while not self._closed:
            try:
                return Recording(self.folder)
            except NotARecording as error:
                # The recorder may still be starting.
                if time.monotonic() - begin > START_PATIENCE_S:
                    self._deliver(error)
                    return None
                time.sleep(0.05)
            except KeelError as error:
                self._deliver(error)
                return None
        return None


class _Maker:
    """Makes pictures, keeping between them what does not change."""

    def __init__(self, recording: Recording, courtesy: Callable[[], None] = lambda: None) -> None:
        """``courtesy`` is called between steps; it may take its time."""
        from keel.measure.census import Census
        from keel.measure.load import Loads

        self._folder = recording.folder
        self._courtesy = courtesy
        self._census = Census()
        self._loads = Loads()
        self._matcher: Matcher | None = None
        self._asked: tuple[str, Scene] | None = None
        self._held: Snapshot | None = None
        self._health: tuple[float, object, Health] | None = None
        self._activity: tuple[float, Wish, dict[int, Times]] | None = None
        self._messages: tuple[object, dict[int, Message]] | None = None

    def make(self, wish: Wish, newest: Snapshot) -> Picture:
        from keel.ask.scene import scene_of
        from keel.store.control import read_status

        self._held = (self._held or newest) if wish.held else None
        snapshot = self._with_manifest(self._held or newest, newest)
        scene = scene_of(snapshot)
        whole = snapshot.span
        lens = wish.lens or whole
        self._courtesy()
        matches = self._match(wish.ask, scene, snapshot, wish.lens)
        self._courtesy()
        census = self._census.take(matches)
        self._courtesy()
        last_second = Span(max(newest.span.end - NS_PER_S, newest.span.start), newest.span.end)
        now = self._loads.series(newest, last_second, 1)
        picture = Picture(
            wish=wish,
            snapshot=snapshot,
            matches=matches,
            scene=scene,
            messages=self._messages_of(snapshot),
            whole=whole,
            lens=lens,
            rate_hz=float(now.rate_hz.sum()),
            loads=tuple(float(load) for load in now.load[:, 0]) if now.load.size else (),
            tape=self._loads.series(snapshot, whole, max(wish.tape_cells, 1)),
            status=read_status(self._folder) if newest.live else None,
            census=census,
            activity=self._activity_of(matches, lens, wish) if wish.view == WATCH else {},
            health=self._health_of(snapshot, matches, lens, wish) if wish.view == HEALTH else None,
        )
        return picture

    def _with_manifest(self, snapshot: Snapshot, newest: Snapshot) -> Snapshot:
        """Marks and names are always those of now, also on rows that are held."""
        from dataclasses import replace

        return replace(snapshot, manifest=newest.manifest, live=newest.live)

    def _messages_of(self, snapshot: Snapshot) -> dict[int, Message]:
        dictionary = snapshot.manifest.dictionary
        if self._messages is None or self._messages[0] is not dictionary:
            self._messages = (dictionary, dictionary.by_key(snapshot.manifest.bus_names))
        return self._messages[1]

    def _match(self, ask: str, scene: Scene, snapshot: Snapshot, lens: Span | None) -> Matches:
        from keel.ask.language import parse
        from keel.ask.matches import Matcher

        if self._matcher is None or self._asked != (ask, scene):
            try:
                node = parse(ask, scene)
            except AskError:
                node = parse("")
            self._matcher, self._asked = Matcher(node, scene), (ask, scene)
        return self._matcher.run(snapshot, lens)

    def _activity_of(self, matches: Matches, lens: Span, wish: Wish) -> dict[int, Times]:
        from keel.measure.census import activity

        now = time.monotonic()
        # The whole lens moves a cell in many seconds: once a second is often enough.
        if self._activity is None or self._activity[1] != wish or now - self._activity[0] >= 1.0:
            self._activity = (now, wish, activity(matches, lens.start, lens.end, 16))
        return self._activity[2]

    def _health_of(self, snapshot: Snapshot, matches: Matches, lens: Span, wish: Wish) -> Health:
        from keel.measure.cycles import describe, times_by_key
        from keel.measure.faults import classes
        from keel.measure.load import bus_loads, cells_for

        known = (wish, snapshot.manifest.buses)
        now = time.monotonic()
        # These go over every frame in the lens: once a second is often enough.
        if self._health is not None and self._health[1] == known and now - self._health[0] < 1.0:
            return self._health[2]
        cycles = [describe(key, times, lens.end, 44) for key, times in times_by_key(matches).items()]
        cycles.sort(key=lambda c: (c.worth_a_look, -c.gap / max(c.usual, 1)))
        cells = cells_for(lens, wish.chart_cells)
        health = Health(
            self._loads.series(snapshot, lens, cells),
            bus_loads(matches, lens),
            classes(matches, lens.end - lens.start),
            cycles,
        )
        self._health = (now, known, health)
        return health
