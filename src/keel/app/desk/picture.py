"""What the desk hands to the views: everything that is shown of one moment. Immutable."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from keel.model.span import Span

if TYPE_CHECKING:
    from keel.ask.matches import Matches
    from keel.ask.nodes import Node, Scene
    from keel.measure.census import Tally
    from keel.measure.checks import Verdict
    from keel.measure.courses import Course, Envelope, Name
    from keel.measure.cycles import Cycle
    from keel.measure.faults import FaultClass
    from keel.measure.load import BusMean, Series
    from keel.measure.peaks import Peak
    from keel.model.frames import Rows, Times
    from keel.signals.dictionary import Message
    from keel.store.control import Status
    from keel.store.recording import Snapshot


@dataclass(frozen=True)
class ValuesWish:
    """What the Values view wants to see.

    Attributes:
        board: The signals whose rows are shown.
        plots: The signals that are drawn, over ``columns`` columns.
        cursors: Times in ns at which the values of the plots are wanted.
        moments: Signals, and times at which their values are wanted, too.
    """

    board: tuple[Name, ...] = ()
    plots: tuple[Name, ...] = ()
    columns: int = 2
    cursors: tuple[int, ...] = ()
    moments: tuple[tuple[Name, int], ...] = ()


@dataclass(frozen=True)
class Wish:
    """What the views want to see.

    Attributes:
        baseline: Counts begin here; None for the beginning of the lens.
        hush: What moved in this span moves by itself; None to hush nothing.
    """

    view: str
    lens: Span | None
    ask: str
    held: bool
    tape_cells: int
    chart_cells: int
    baseline: int | None = None
    hush: Span | None = None
    values: ValuesWish = ValuesWish()


@dataclass(frozen=True)
class ValuesShown:
    """What the Values view shows; by signal. ``at`` are values at single moments."""

    courses: Mapping[Name, Course]
    envelopes: Mapping[Name, Envelope]
    at: Mapping[tuple[Name, int], float | None]


@dataclass(frozen=True)
class Health:
    """What the Health view shows, all of it of the matches in the lens; ``looked`` is the share looked at yet."""

    series: Series
    loads: list[BusMean]
    peaks: list[Peak | None]
    looked: float
    faults: list[FaultClass]
    cycles: list[Cycle]
    checks: list[Verdict]


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


@dataclass(frozen=True)
class Picture:
    """Everything that is shown of one moment.

    Attributes:
        whole, lens: The recording's span, and what is looked at of it.
        node: The ask, as it is put; what leaves nothing if it cannot be used, and ``ask_error`` says why.
        hints: What the ask may have meant besides.
        keys: The identifiers of the whole recording.
        tape: Traffic over the lens, or over all without one; ``overview`` is over all if the tape is not.
        census: Of the matches in the lens; ``since`` is of those since the baseline.
    """

    wish: Wish
    snapshot: Snapshot
    node: Node
    matches: Matches
    scene: Scene
    keys: frozenset[int]
    messages: dict[int, Message]
    whole: Span
    lens: Span
    rate_hz: float
    loads: tuple[float, ...]
    tape: Series
    overview: Series | None
    faults: int
    status: Status | None
    census: Mapping[int, Tally] = field(default_factory=dict)
    since: Mapping[int, Tally] | None = None
    hush: Hush | None = None
    activity: Mapping[int, Times] = field(default_factory=dict)
    health: Health | None = None
    values: ValuesShown | None = None
    ask_error: str = ""
    hints: tuple[str, ...] = ()

    def bus_name(self, key: int) -> str:
        """The name of a key's bus."""
        return self.snapshot.manifest.buses[key >> 56].name

    def name(self, key: int) -> str:
        """The message name of a key, or a dash."""
        message = self.messages.get(key)
        return message.name if message else "—"
