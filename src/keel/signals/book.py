"""The dictionaries in force for a recording, and what they say of an identifier."""

from __future__ import annotations

from collections.abc import Iterable
from functools import cached_property

from keel.media.every import form_of
from keel.model.globs import SignalGlob
from keel.model.identity import unpack_key
from keel.signals.dictionary import Dictionary, Message, Signal, joined
from keel.signals.header_signals import with_header


class Book:
    """Several dictionaries, the first with precedence, for buses in index order.

    Asked by key; what was looked up once is kept, since an identifier's meaning does not change. A message bound to
    a bus comes before one for any bus, and one that matches exactly before one that matches by parameter group.
    """

    def __init__(self, dictionaries: Iterable[Dictionary] = (), buses: Iterable[str] = ()) -> None:
        """Index them: one look-up an identifier afterwards."""
        self.dictionaries = tuple(dictionaries)
        self.buses = tuple(buses)
        self._known: dict[int, Message | None] = {}
        self._spoken: dict[int, Message | None] = {}
        self._exact: list[dict[tuple[str, int, int], Message]] = []
        self._groups: list[dict[tuple[str, int], Message]] = []
        for dictionary in self.dictionaries:
            exact: dict[tuple[str, int, int], Message] = {}
            groups: dict[tuple[str, int], Message] = {}
            for message in dictionary.messages:
                exact.setdefault((message.bus, message.form, message.ident), message)
                group = form_of(message.form).group
                if message.by_group and group is not None:
                    groups.setdefault((message.bus, group(message.ident)), message)
            self._exact.append(exact)
            self._groups.append(groups)

    def message(self, key: int) -> Message | None:
        """What is known of an identifier; None if nothing is."""
        key = int(key)
        if key not in self._known:
            self._known[key] = self._find(key)
        return self._known[key]

    def _find(self, key: int) -> Message | None:
        bus, form, ident = unpack_key(key)
        name = self.buses[bus] if bus < len(self.buses) else ""
        found: Message | None = None
        for exact, groups in zip(self._exact, self._groups, strict=True):
            here = exact.get((name, form, ident)) or exact.get(("", form, ident))
            group_of = form_of(form).group
            if here is None and groups and group_of is not None:
                group = group_of(ident)
                here = groups.get((name, group)) or groups.get(("", group))
            if here is not None:
                found = here if found is None else joined(found, here)
        return found

    def spoken(self, key: int) -> Message | None:
        """What is known of an identifier, with what its kind of line says in headers; None if nothing is."""
        key = int(key)
        if key not in self._spoken:
            self._spoken[key] = with_header(key, self.message(key))
        return self._spoken[key]

    def messages(self, keys: Iterable[int]) -> dict[int, Message]:
        """What is known of those of the identifiers of which anything is."""
        if not any(self._exact):
            return {}
        found = ((int(key), self.message(key)) for key in keys)
        return {key: message for key, message in found if message is not None}

    def signals(self, key: int, pattern: SignalGlob) -> list[Signal]:
        """The signals of an identifier whose name fits."""
        message = self.message(key)
        return [s for s in message.signals if pattern.fits(message.name, s.name)] if message is not None else []

    @cached_property
    def message_names(self) -> frozenset[str]:
        """The names of all messages."""
        return frozenset(m.name for d in self.dictionaries for m in d.messages)

    @cached_property
    def signal_names(self) -> frozenset[str]:
        """All signals as asks write them."""
        names = ((m.name, s.name) for d in self.dictionaries for m in d.messages for s in m.signals)
        return frozenset(str(SignalGlob.literal(*name)) for name in names)
