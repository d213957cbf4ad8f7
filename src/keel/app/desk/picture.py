"""What the desk hands to the views: everything that is shown of one moment. Immutable."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, TypeVar

from keel.model.span import Span

if TYPE_CHECKING:
    from keel.app.desk.making import Wish
    from keel.ask.matches import Matches
    from keel.ask.nodes import Node, Scene
    from keel.measure.census import Tally
    from keel.measure.load import Series
    from keel.signals.dictionary import Message
    from keel.store.control import Status
    from keel.store.recording import Snapshot

MANY, MANY_KEYS, SOME_KEYS = 0.3, 4096, 256
"""The share of frames that is many; of so many identifiers it is not counted."""
P = TypeVar("P")


@dataclass(frozen=True)
class Trouble:
    """Something went wrong behind the views.

    Attributes:
        damaged: Whether it is a file that is not what was written.
        ended: Whether there is no recording to show.
    """

    sentence: str
    damaged: bool = False
    ended: bool = False


@dataclass(frozen=True, eq=False)
class Picture:
    """Everything that is shown of one moment.

    Attributes:
        wish: What it was made for.
        gone: Why the recording cannot be read any more; empty if it can. What is shown is what was read before.
        was_live: Whether the recording was being written at any time since it was opened.
        whole, lens: The recording's span, and what is looked at of it.
        node: The ask, as it is put; what leaves nothing if it cannot be used, and ``ask_error`` says why.
        hints: What the ask may have meant besides.
        keys: The identifiers of the whole recording.
        tape: Traffic over the lens, or over all without one; ``overview`` is over all if the tape is not.
        census: Of the matches in the lens.
        parts: What the views wanted, by its kind; those of views that are not open may be older.
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
    parts: Mapping[type[object], object] = field(default_factory=dict)
    ask_error: str = ""
    hints: tuple[str, ...] = ()
    gone: str = ""
    was_live: bool = False

    @property
    def zero(self) -> int:
        """When time is 0."""
        return self.whole.start if self.snapshot.manifest.is_dated else 0

    def part(self, kind: type[P]) -> P | None:
        """A view's part; None if it was not made yet."""
        found = self.parts.get(kind)
        return found if isinstance(found, kind) else None

    @property
    def troubles(self) -> tuple[str, ...]:
        """What is wrong with the recording, in sentences."""
        said = (self.gone, self.status.trouble if self.status is not None else "", *self.snapshot.problems)
        return tuple(sentence for sentence in said if sentence)

    def bus_name(self, key: int) -> str:
        """The name of a key's bus."""
        return self.snapshot.manifest.buses[key >> 56].name

    def called(self, key: int, payload: bytes) -> tuple[str, str]:
        """What stands for a key's name, and the role of its colour: a message's name, or what the frame says of its
        sender, or a dash."""
        from keel.media.every import called

        if key in self.messages:
            return self.messages[key].name, "text"
        said = called(key, payload)
        return (said, "slate") if said else ("—", "faint")

    @cached_property
    def ident_cells(self) -> int:
        """How wide the widest identifier may be written, of those shown; of very many, of all that may come."""
        from keel.media.every import key_words, medium_of

        if 0 < len(self.census) <= SOME_KEYS:
            return max(len(key_words(key)) for key in self.census)
        return max((medium_of(bus).ident_cells for bus in self.snapshot.manifest.buses), default=11)

    def has_header(self, key: int) -> bool:
        """Whether frames of an identifier say something of themselves that lists show."""
        from keel.media.every import medium_of

        bus, buses = key >> 56, self.snapshot.manifest.buses
        return bus < len(buses) and medium_of(buses[bus]).brief is not None

    @cached_property
    def has_headers(self) -> bool:
        """Whether many of the frames that are shown do: else a column for it would be all but empty."""
        from keel.media.every import medium_of

        having = [medium_of(bus).brief is not None for bus in self.snapshot.manifest.buses]
        if all(having) or not any(having) or len(self.census) > MANY_KEYS:
            return any(having)
        counts = [(self.has_header(key), tally.frames) for key, tally in self.census.items()]
        return sum(n for has, n in counts if has) >= MANY * sum(n for _, n in counts)

    def name(self, key: int) -> str:
        """The message name of a key, or a dash."""
        message = self.messages.get(key)
        return message.name if message else "—"
