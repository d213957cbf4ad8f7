"""Messages and their signals, and dictionaries of them."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, replace

import numpy as np

from keel.media.every import format_ident
from keel.model.extensible import Extensible
from keel.model.frames import Bytes, Mask
from keel.signals.signal import GLYPHS, NOT_AVAILABLE, Ranges, Role, Signal, Standing, format_number, within

__all__ = [
    "GLYPHS",
    "NOT_AVAILABLE",
    "Dictionary",
    "Message",
    "Ranges",
    "Role",
    "Signal",
    "Standing",
    "TextField",
    "format_number",
]


@dataclass(frozen=True)
class TextField(Extensible):
    """A value in a payload that is text: the first group of a pattern (or all of what it finds).

    Attributes:
        pattern: A regular expression over the payload read as Latin-1.
        is_number: Whether the value is a number, to be scaled; else it stays text.
    """

    name: str
    pattern: str
    is_number: bool = False
    scale: float = 1.0
    offset: float = 0.0
    unit: str = ""
    note: str = ""

    def value_of(self, payload: bytes) -> str | float | None:
        """The value in a payload; None if the pattern is not there."""
        found = re.search(self.pattern, payload.decode("latin-1"))
        if found is None:
            return None
        text = found.group(1 if found.re.groups else 0)
        if not self.is_number:
            return text
        try:
            return float(text) * self.scale + self.offset
        except (TypeError, ValueError):
            return None


@dataclass(frozen=True)
class Message(Extensible):
    """A message of one identifier.

    Attributes:
        bus: The bus it is on; empty for any.
        size: Payload bytes; 0 if nothing is said.
        cycle_ms: How often it is sent; 0 if nothing is said.
        by_group: Whether only its J1939 parameter group counts: priority, source and, for parameter groups that
            have one, destination are ignored.
        text_fields: Values of payloads that are text.
    """

    bus: str
    form: int
    ident: int
    name: str
    signals: tuple[Signal, ...] = ()
    size: int = 0
    sender: str = ""
    cycle_ms: float = 0.0
    by_group: bool = False
    note: str = ""
    text_fields: tuple[TextField, ...] = ()

    @property
    def has_own_name(self) -> bool:
        """Whether somebody gave it a name."""
        return self.name != nameless(self.form, self.ident)

    @property
    def selector(self) -> Signal | None:
        """The signal that says which page the rest is, if there is one."""
        return next((s for s in self.signals if s.role == "selector"), None)

    def signal(self, name: str) -> Signal | None:
        """A signal by name, in any case."""
        return next((s for s in self.signals if s.name.lower() == name.lower()), None)

    def selector_of(self, signal: Signal) -> Signal | None:
        """The signal that selects another one."""
        if not signal.pages:
            return None
        return self.signal(signal.selector) if signal.selector else self.selector

    def rows_of(self, signal: Signal, payloads: Bytes) -> Mask | None:
        """Which payloads (n, bytes), long enough for it, carry a signal; None for all.

        A selector may itself be selected by another.
        """
        selector = self.selector_of(signal)
        if selector is None or selector is signal:
            return None
        if selector.field.last_byte >= payloads.shape[1]:
            return np.zeros(len(payloads), np.bool_)
        rows = within(selector.raw(payloads), signal.pages)
        above = self.rows_of(selector, payloads) if selector.pages else None
        return rows if above is None else rows & above

    def present(self, payload: bytes) -> list[Signal]:
        """The signals that this payload carries."""
        one = np.frombuffer(payload, np.uint8)[None, :]
        fits = [s for s in self.signals if s.source == "payload" and s.field.last_byte < len(payload)]
        rows = ((s, self.rows_of(s, one)) for s in fits)
        return [s for s, there in rows if there is None or there[0]]


def nameless(form: int, ident: int) -> str:
    """What a message is called that nobody named."""
    return f"Message{format_ident(form, ident)}"


@dataclass(frozen=True)
class Dictionary:
    """What is known about the messages of a recording; immutable, changes make a new one."""

    messages: tuple[Message, ...] = ()
    name: str = ""
    note: str = ""

    def find(self, bus: str, form: int, ident: int) -> Message | None:
        """The message of an identifier, or None; one of that bus alone comes before one of any bus."""
        found = None
        for message in self.messages:
            if message.ident == ident and message.form == form and message.bus in ("", bus):
                if message.bus:
                    return message
                found = found or message
        return found

    def with_signal(self, bus: str, form: int, ident: int, signal: Signal, name: str = "") -> Dictionary:
        """The dictionary with a signal added, or exchanged if the message has one of that name.

        A message that is new is called ``name``.
        """
        old = self.find(bus, form, ident)
        if old is None:
            old = Message(bus, form, ident, name or nameless(form, ident))
        kept = tuple(s for s in old.signals if s.name != signal.name)
        signals = sorted((*kept, signal), key=lambda s: (min(s.field.bits), s.name))
        rest = tuple(m for m in self.messages if m is not old)
        return replace(self, messages=(*rest, replace(old, signals=tuple(signals))))

    def without_signal(self, bus: str, form: int, ident: int, name: str) -> Dictionary:
        """The dictionary without a signal."""
        old = self.find(bus, form, ident)
        if old is None:
            return self
        new = replace(old, signals=tuple(s for s in old.signals if s.name != name))
        return replace(self, messages=tuple(new if m is old else m for m in self.messages))

    def on_bus(self, bus: str) -> Dictionary:
        """The same for one bus alone: messages that are not bound to a bus are bound to it, others' left out."""
        kept = (m for m in self.messages if m.bus in ("", bus))
        return replace(self, messages=tuple(replace(m, bus=bus) for m in kept))


def merged(dictionaries: Iterable[Dictionary], name: str = "") -> Dictionary:
    """One dictionary of several, the first with precedence.

    A message of several has the signals of all: a later one's only where earlier ones left its bits and its name free.
    """
    found: dict[tuple[str, int, int, bool], Message] = {}
    for dictionary in dictionaries:
        for message in dictionary.messages:
            place = (message.bus, message.form, message.ident, message.by_group)
            found[place] = joined(found[place], message) if place in found else message
    return Dictionary(tuple(found.values()), name)


def joined(first: Message, second: Message) -> Message:
    """What two dictionaries say of one message, the first with precedence."""
    names = {s.name.lower() for s in first.signals}
    more = [s for s in second.signals if s.name.lower() not in names and not _overlaps(s, first)]
    texts = {t.name for t in first.text_fields}
    return replace(
        first,
        name=first.name if first.has_own_name else second.name,
        signals=tuple(sorted((*first.signals, *more), key=lambda s: min(s.field.bits))) if more else first.signals,
        size=first.size or second.size,
        sender=first.sender or second.sender,
        cycle_ms=first.cycle_ms or second.cycle_ms,
        note=first.note or second.note,
        text_fields=(*first.text_fields, *(t for t in second.text_fields if t.name not in texts)),
    )


def _overlaps(signal: Signal, message: Message) -> bool:
    """Whether a signal takes bits that a message's own take at the same time."""
    bits = set(signal.field.bits)
    return any(
        bits & set(other.field.bits) and (not signal.pages or not other.pages or _meet(signal.pages, other.pages))
        for other in message.signals
    )


def _meet(a: Ranges, b: Ranges) -> bool:
    return any(low <= top and bottom <= high for low, high in a for bottom, top in b)
